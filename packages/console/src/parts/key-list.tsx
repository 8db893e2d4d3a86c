import { type JSX, useState } from 'react';
import { areKeysOn, boundKeys, type KeyAct, switchKeys } from '../keys.js';
import { Dialog } from './dialog.js';
import { Tick } from './field.js';

/** A key as it stands on a keyboard. */
const shown = (key: string): string =>
  /^[A-Z]$/.test(key) ? `Shift ${key}` : key.replace('Escape', 'Esc').replace('Ctrl k', 'Ctrl K');

/** What keys do where one is, read off those that are bound. */
export function KeyList({ isOpen, close }: { readonly isOpen: boolean; readonly close: () => void }): JSX.Element {
  const [areOn, setOn] = useState(areKeysOn);
  const keys = isOpen ? boundKeys() : [];
  const here = keys.filter((one) => !one.isEverywhere);
  return (
    <Dialog isOpen={isOpen} close={close} title="Keys" className="w-760 p-16">
      <div className="grid grid-cols-[repeat(auto-fit,minmax(280px,1fr))] gap-x-32 gap-y-0">
        {here.length > 0 && <Keys title="Here" keys={here} />}
        <Keys title="Everywhere" keys={keys.filter((one) => one.isEverywhere)} />
      </div>
      <Tick>
        <input
          type="checkbox"
          checked={areOn}
          onChange={(event) => {
            switchKeys(event.target.checked);
            setOn(event.target.checked);
          }}
        />
        Single keys act
      </Tick>
    </Dialog>
  );
}

function Keys({ title, keys }: { readonly title: string; readonly keys: readonly KeyAct[] }): JSX.Element {
  return (
    <section>
      <h3 className="text-small font-normal text-ink3">{title}</h3>
      <dl className="mb-12">
        {keys.map(({ key, does }) => (
          <div className="grid min-h-28 grid-cols-[96px_1fr] items-center border-b border-line" key={key}>
            <dt>
              <kbd>{shown(key)}</kbd>
            </dt>
            <dd>{does}</dd>
          </div>
        ))}
      </dl>
    </section>
  );
}
