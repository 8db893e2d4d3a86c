import { useMutation, useQueryClient } from '@tanstack/react-query';
import { readLayer } from '@tessarion/core';
import { type FormEvent, type JSX, useDeferredValue, useMemo, useRef, useState } from 'react';
import { Button, TextButton } from '../parts/button.js';
import { Overtaken } from '../parts/overtaken.js';
import { client } from '../session.js';

const FIRST = `tessarion: profile/1
name: my-kind
title: What this kind of site is made of

areas:
  - { name: code, path: ., class: authored }

databases:
  main:
    tables: {}
`;

/** By which name a document would be saved. */
const nameIn = (text: string): string => /^name:\s*([a-z][a-z0-9-]*)/m.exec(text)?.[1] ?? '';

/** Writes a profile, or a new version of one; each mistake is named with its line as one types. */
export function ProfileEditor({
  profile,
  close,
}: {
  /** The newest version; nothing where a first one is written. */
  readonly profile:
    | { readonly name: string; readonly text: string; readonly etag: string; readonly version: number }
    | undefined;
  readonly close: (name?: string) => void;
}): JSX.Element {
  const cache = useQueryClient();
  const [former] = useState(profile);
  const [text, setText] = useState(former?.text ?? FIRST);
  const field = useRef<HTMLTextAreaElement>(null);
  const settled = useDeferredValue(text);
  const mistakes = useMemo(() => {
    const read = readLayer(settled);
    return read.ok ? [] : read.mistakes;
  }, [settled]);
  const name = former?.name ?? nameIn(text);
  const save = useMutation({
    mutationFn: (edited: string | null) =>
      client.call('profileSave', { params: { name }, body: { text }, etag: edited }),
    onSuccess: async (saved) => {
      for (const queryKey of ['profiles', 'profile']) await cache.invalidateQueries({ queryKey: [queryKey] });
      close(saved.name);
    },
    onError: () => cache.invalidateQueries({ queryKey: ['profile', name] }),
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!save.isPending) save.mutate(former?.etag ?? null);
  };
  const goTo = (line: number): void => {
    const start =
      text
        .split('\n')
        .slice(0, line - 1)
        .join('\n').length + (line > 1 ? 1 : 0);
    const end = text.indexOf('\n', start);
    field.current?.focus();
    field.current?.setSelectionRange(start, end < 0 ? text.length : end);
  };
  return (
    <form className="flex h-full min-h-0 flex-col" onSubmit={submit}>
      <header className="flex flex-wrap items-center gap-8 border-b border-line px-16 py-8">
        <h2 className="text-title">{former ? `${former.name}, after version ${former.version}` : 'A new profile'}</h2>
        <span className="flex-1 max-desk:hidden" />
        <Button
          type="submit"
          main
          disabled={save.isPending || mistakes.length > 0 || name === '' || text === former?.text}
        >
          {former ? 'Save it as a new version' : `Save it${name === '' ? '' : ` as ${name}`}`}
        </Button>
        <Button onClick={() => close()}>Leave it</Button>
      </header>
      {save.isError && (
        <Overtaken
          error={save.error}
          now={profile ? `version ${profile.version}` : 'another profile of that name'}
          again={() => save.mutate(profile?.etag ?? '*')}
        />
      )}
      <ul
        className={mistakes.length === 0 ? '' : 'border-b border-line bg-bed px-16 py-8'}
        aria-label="Mistakes"
        aria-live="polite"
      >
        {mistakes.slice(0, 8).map((one) => (
          <li key={`${one.line} ${one.path} ${one.message}`}>
            <TextButton onClick={() => goTo(one.line)}>line {one.line}</TextButton>{' '}
            <span className="text-ink2">
              {one.path === '' ? '' : `${one.path}: `}
              {one.message}
            </span>
          </li>
        ))}
        {mistakes.length > 8 && <li className="text-ink2">and {mistakes.length - 8} more</li>}
      </ul>
      <textarea
        ref={field}
        className="min-h-320 flex-1 resize-none rounded-none border-0 px-16 py-12 mono leading-20 [tab-size:2]"
        aria-label="Document"
        spellCheck={false}
        wrap="off"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
    </form>
  );
}
