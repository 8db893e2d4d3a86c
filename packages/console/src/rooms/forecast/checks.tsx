import { Popover, PopoverButton, PopoverPanel } from '@headlessui/react';
import type { Forecast } from '@tessarion/contract';
import { counted } from '@tessarion/core';
import type { JSX } from 'react';
import { Icon } from '../../parts/icon.js';
import { POP } from '../../parts/pop.js';

const STATES = { passed: 'check', warning: 'warn', failed: 'close' } as const;

/** How many checks passed and warn; each with what it found when somebody asks. */
export function Checks({ checks }: Pick<Forecast, 'checks'>): JSX.Element {
  const of = (state: Forecast['checks'][number]['state']) => checks.filter((check) => check.state === state);
  const [passed, warnings, failed] = [of('passed'), of('warning'), of('failed')];
  return (
    <Popover className={warnings.length + failed.length === 0 ? 'max-desk:hidden' : ''}>
      <PopoverButton className="-my-2 flex min-h-24 w-full items-center gap-6 text-left hover:text-accent touch:min-h-44">
        <Icon name={failed.length > 0 ? 'close' : 'check'} />
        <span>
          {failed.length > 0
            ? `${counted(failed.length, 'check')} failed`
            : `${counted(passed.length, 'check')} passed`}
        </span>
        {warnings.length > 0 && (
          <span className="ml-auto flex items-center gap-4 font-semibold text-warn">
            <Icon name="warn" />
            {counted(warnings.length, 'warning')}
          </span>
        )}
      </PopoverButton>
      <PopoverPanel anchor="bottom end" className={`${POP} z-20 w-360 max-w-[calc(100vw-16px)] p-16`}>
        <ul className="grid gap-8" aria-label="Checks">
          {[...failed, ...warnings, ...passed].map((check) => (
            <li key={`${check.name} ${check.message}`} className="flex gap-8">
              <span className={{ failed: 'text-danger', warning: 'text-warn', passed: 'text-ink2' }[check.state]}>
                <Icon name={STATES[check.state]} />
              </span>
              <span className="min-w-0 wrap-anywhere">
                {check.message}
                {check.remedy !== undefined && check.state !== 'passed' && (
                  <span className="block text-ink2">{check.remedy}</span>
                )}
              </span>
            </li>
          ))}
        </ul>
      </PopoverPanel>
    </Popover>
  );
}
