import { DialogPanel, DialogTitle, Dialog as HeadlessDialog } from '@headlessui/react';
import type { JSX, ReactNode } from 'react';

/** A panel over the room, which waits beneath a veil until it is left. */
export function Dialog({
  isOpen,
  close,
  name,
  title,
  className = '',
  children,
}: {
  readonly isOpen: boolean;
  readonly close: () => void;
  /** Says what it is, where it shows no title. */
  readonly name?: string;
  readonly title?: string;
  readonly className?: string;
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <HeadlessDialog
      open={isOpen}
      onClose={close}
      aria-label={name}
      className="fixed inset-0 z-40 grid items-start justify-items-center overflow-auto bg-[#040709a0] pt-[12vh]"
    >
      <DialogPanel className={`max-w-[calc(100vw-24px)] bg-slab shadow-pop ${className}`.trim()}>
        {title !== undefined && (
          <DialogTitle as="h2" className="mb-6 text-title">
            {title}
          </DialogTitle>
        )}
        {children}
      </DialogPanel>
    </HeadlessDialog>
  );
}
