import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import { type JSX, useState } from 'react';
import { areKeysOn, boundKeys, switchKeys } from '../keys.js';

/** A key as it stands on a keyboard. */
const shown = (key: string): string => key.replace('Escape', 'Esc').replace('Ctrl k', 'Ctrl K');

/** What keys do where one is, read off those that are bound. */
export function KeyList({ isOpen, close }: { readonly isOpen: boolean; readonly close: () => void }): JSX.Element {
  const [areOn, setOn] = useState(areKeysOn);
  const keys = isOpen ? boundKeys() : [];
  return (
    <Dialog open={isOpen} onClose={close} className="veil">
      <DialogPanel className="panel keys">
        <DialogTitle as="h2">Keys</DialogTitle>
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
