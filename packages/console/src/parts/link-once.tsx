import type { JSX, ReactNode } from 'react';

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
    <div className="stack">
      <h2>{title}</h2>
      <p className="q">{children}</p>
      <textarea
        className="mono"
        readOnly
        rows={3}
        value={link}
        aria-label={name.replace(/^./, (letter) => letter.toUpperCase())}
        onFocus={(event) => event.target.select()}
      />
      <button type="button" className="btn" onClick={() => void navigator.clipboard.writeText(link)}>
        Copy the {name}
      </button>
    </div>
  );
}
