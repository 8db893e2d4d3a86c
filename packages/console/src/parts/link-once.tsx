import type { JSX, ReactNode } from 'react';
import { Button } from './button.js';

/** A link that lets somebody in, or a secret, that is shown once. */
export function LinkOnce({
  title,
  link,
  name = 'link',
  children,
}: {
  readonly title: string;
  readonly link: string;
  /** What it is. */
  readonly name?: 'link' | 'secret' | 'token';
  readonly children: ReactNode;
}): JSX.Element {
  return (
    <div className="flex flex-col gap-8">
      <h2>{title}</h2>
      <p className="text-ink2">{children}</p>
      <textarea
        className="mono"
        readOnly
        rows={3}
        value={link}
        aria-label={name.replace(/^./, (letter) => letter.toUpperCase())}
        onFocus={(event) => event.target.select()}
      />
      <Button className="self-start" onClick={() => void navigator.clipboard.writeText(link)}>
        Copy the {name}
      </Button>
    </div>
  );
}
