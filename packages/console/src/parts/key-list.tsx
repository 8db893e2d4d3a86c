import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import { type JSX, useState } from 'react';
import { areKeysOn, boundKeys, type KeyAct, switchKeys } from '../keys.js';

/** A key as it stands on a keyboard. */
const shown = (key: string): string =>
  /^[A-Z]$/.test(key) ? `Shift ${key}` : key.replace('Escape', 'Esc').replace('Ctrl k', 'Ctrl K');

/** What keys do where one is, read off those that are bound. */
export function KeyList({ isOpen, close }: { readonly isOpen: boolean; readonly close: () => void }): JSX.Element {
  const [areOn, setOn] = useState(areKeysOn);
  const keys = isOpen ? boundKeys() : [];
  const here = keys.filter((one) => !one.isEverywhere);
  return (
    <Dialog open={isOpen} onClose={close} className="veil">
      <DialogPanel className="panel keys">
        <DialogTitle as="h2">Keys</DialogTitle>
        <div className="sides">
          {here.length > 0 && <Keys title="Here" keys={here} />}
          <Keys title="Everywhere" keys={keys.filter((one) => one.isEverywhere)} />
        </div>
        <label className="tick">
          <input
            type="checkbox"
            checked={areOn}
            onChange={(event) => {
              switchKeys(event.target.checked);
              setOn(event.target.checked);
            }}
          />
          Single keys act
        </label>
      </DialogPanel>
    </Dialog>
  );
}

function Keys({ title, keys }: { readonly title: string; readonly keys: readonly KeyAct[] }): JSX.Element {
  return (
    <section>
      <h3>{title}</h3>
      <dl>
        {keys.map(({ key, does }) => (
          <div key={key}>
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
