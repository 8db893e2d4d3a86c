import { type JSX, useEffect, useState } from 'react';
import { TextButton } from './button.js';

/** Copies a text, and says so for a moment. */
export function CopyText({
  text,
  label,
  words = 'Copy',
}: {
  readonly text: string;
  /** What is copied, for who does not see it beside. */
  readonly label: string;
  readonly words?: string;
}): JSX.Element {
  const [isCopied, setCopied] = useState(false);
  useEffect(() => {
    if (!isCopied) return;
    const timer = setTimeout(() => setCopied(false), 2000);
    return () => clearTimeout(timer);
  }, [isCopied]);
  return (
    <TextButton
      aria-label={`Copy ${label}`}
      onClick={() => void navigator.clipboard.writeText(text).then(() => setCopied(true))}
    >
      <span aria-live="polite">{isCopied ? 'Copied' : words}</span>
    </TextButton>
  );
}
