import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import { type FormEvent, type JSX, type ReactNode, useState } from 'react';

export interface ConfirmProps {
  readonly isOpen: boolean;
  readonly close: () => void;
  readonly title: string;
  readonly children: ReactNode;
  /** What must be typed in full; never filled in beforehand. */
  readonly mustType?: string;
  readonly button: string;
  readonly isDanger?: boolean;
  readonly act: (typed: string) => void;
}

/** Says what will happen and how large it is; the button says it again. */
export function Confirm({
  isOpen,
  close,
  title,
  children,
  mustType,
  button,
  isDanger = false,
  act,
}: ConfirmProps): JSX.Element {
  const [typed, setTyped] = useState('');
  const isReady = mustType === undefined || typed === mustType;
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!isReady) return;
    close();
    act(typed);
    setTyped('');
  };
  return (
    <Dialog open={isOpen} onClose={close} className="veil">
      <DialogPanel className="panel">
        <form onSubmit={submit}>
          <DialogTitle as="h2">{title}</DialogTitle>
          <p className="q">{children}</p>
          {mustType !== undefined && (
            <label>
              Type <span className="mono">{mustType}</span>
              <input
                className="mono"
                autoComplete="off"
                spellCheck={false}
                value={typed}
                onChange={(event) => setTyped(event.target.value)}
              />
            </label>
          )}
          <div className="acts">
            <button type="button" className="btn" onClick={close}>
              Leave it
            </button>
            <button type="submit" className={`btn main ${isDanger ? 'danger' : ''}`} disabled={!isReady}>
              {button}
            </button>
          </div>
        </form>
      </DialogPanel>
    </Dialog>
  );
}
