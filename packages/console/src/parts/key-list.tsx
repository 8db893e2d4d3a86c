import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import { type JSX, useState } from 'react';
import { areKeysOn, switchKeys } from '../keys.js';

const KEYS: readonly [string, string][] = [
  ['Ctrl K', 'Find anything, or do it'],
  ['/', 'Filter'],
  ['j  k', 'Next and previous row'],
  ['Enter', 'Open'],
  ['Esc', 'Back'],
  ['f', 'Forecast'],
  ['x', 'Swap the two ends'],
  ['v', 'Mark an item of a request as seen'],
  ['g f', 'Fleet'],
  ['g r', 'Change requests'],
  ['g t', 'Transfers'],
  ['g s', 'Snapshots'],
  ['g w', 'Windows'],
  ['g p', 'Profiles'],
  ['g e', 'People'],
  ['g j', 'Journal'],
  ['?', 'This list'],
];

export function KeyList({ isOpen, close }: { readonly isOpen: boolean; readonly close: () => void }): JSX.Element {
  const [areOn, setOn] = useState(areKeysOn);
  return (
    <Dialog open={isOpen} onClose={close} className="veil">
      <DialogPanel className="panel keys">
        <DialogTitle as="h2">Keys</DialogTitle>
        <dl>
          {KEYS.map(([key, what]) => (
            <div key={key}>
              <dt>
                <kbd>{key}</kbd>
              </dt>
              <dd>{what}</dd>
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
