import { type FormEvent, type JSX, type ReactNode, useState } from 'react';
import { Button } from './button.js';
import { Dialog } from './dialog.js';

interface ConfirmProps {
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
    <Dialog isOpen={isOpen} close={close} title={title} className="w-480 p-16">
      <form onSubmit={submit}>
        <p className="mb-12 text-ink2">{children}</p>
        {mustType !== undefined && (
          <label className="mb-16 grid gap-4">
            <span className="wrap-anywhere">
              Type <span className="mono">{mustType}</span>
            </span>
            <input
              className="mono"
              autoComplete="off"
              spellCheck={false}
              value={typed}
              onChange={(event) => setTyped(event.target.value)}
            />
          </label>
        )}
        <div className="flex justify-end gap-8">
          <Button onClick={close}>Leave it</Button>
          <Button type="submit" main danger={isDanger} disabled={!isReady}>
            {button}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
