import type { BodyOf, RequestDetail } from '@tessarion/contract';
import { momentWords } from '@tessarion/core';
import type { JSX } from 'react';
import { Field } from '../../parts/field.js';
import { clock } from '../../parts/moments.js';
import { type Asked, ReviewersField, reviewersOf } from './reviewers-field.js';
import { useMoment } from './use-moment.js';

/** What people say of a request, as they type it. */
interface About {
  readonly title: string;
  readonly description: string;
  readonly asked: readonly Asked[];
  /** Manual steps, one a line. */
  readonly before: string;
  readonly after: string;
  readonly wanted: 'any' | 'window' | 'time';
  /** As the browser writes local times. */
  readonly time: string;
}

const linesOf = (text: string): string[] =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '');

const stepText = (request: RequestDetail, phase: 'before' | 'after'): string =>
  request.steps
    .filter((one) => one.phase === phase)
    .map((one) => one.text)
    .join('\n');

/** A moment as a field for local times wants it. */
const localTime = (iso: string): string => {
  const at = new Date(iso);
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
};

/** What is said of a request, as the fields hold it. */
export const aboutOf = (request: RequestDetail): About => ({
  title: request.title,
  description: request.description,
  asked: request.reviewers.map((one) => (one.person ? `person ${one.person.id}` : `team ${one.team}`)),
  before: stepText(request, 'before'),
  after: stepText(request, 'after'),
  wanted: request.wantedFor === null ? 'any' : request.wantedFor === 'window' ? 'window' : 'time',
  time: request.wantedFor === null || request.wantedFor === 'window' ? '' : localTime(request.wantedFor),
});

/** Whether all that must be said is. */
export const isSaid = ({ title, wanted, time }: About): boolean =>
  title.trim() !== '' && (wanted !== 'time' || time !== '');

/** What was changed, field by field, as the interface wants it. */
export function changesOf(former: About, about: About): BodyOf<'requestEdit'> {
  const [before, after] = [toBody(former), toBody(about)];
  return Object.fromEntries(
    Object.entries(after).filter(
      ([field, value]) => JSON.stringify(value) !== JSON.stringify(before[field as keyof typeof before]),
    ),
  );
}

const toBody = ({ title, description, asked, before, after, wanted, time }: About) =>
  ({
    title,
    description,
    reviewers: reviewersOf(asked),
    steps: [
      ...linesOf(before).map((text) => ({ phase: 'before' as const, text })),
      ...linesOf(after).map((text) => ({ phase: 'after' as const, text })),
    ],
    wantedFor: wanted === 'any' ? null : wanted === 'window' ? wanted : new Date(time).toISOString(),
  }) satisfies BodyOf<'requestEdit'>;

/** Fields for all that is said of a request onto an environment. */
export function AboutFields({
  about,
  onto,
  author,
  change,
}: {
  readonly about: About;
  readonly onto: string;
  readonly author: string | undefined;
  readonly change: (about: About) => void;
}): JSX.Element {
  const area = (label: string, name: 'description' | 'before' | 'after', rows: number): JSX.Element => (
    <Field>
      {label}
      <textarea
        rows={rows}
        value={about[name]}
        onChange={(event) => change({ ...about, [name]: event.target.value })}
      />
    </Field>
  );
  const moment = useMoment(onto, about.wanted === 'time' ? about.time : undefined);
  return (
    <>
      <Field>
        Title
        <input
          value={about.title}
          maxLength={200}
          onChange={(event) => change({ ...about, title: event.target.value })}
        />
      </Field>
      <ReviewersField asked={about.asked} author={author} choose={(asked) => change({ ...about, asked })} />
      {area('More about it, in Markdown', 'description', 4)}
      {area('To do by hand before the delivery, one a line', 'before', 2)}
      {area('To do by hand after it, one a line', 'after', 2)}
      <Field>
        Wanted
        <select
          value={about.wanted}
          onChange={(event) => change({ ...about, wanted: event.target.value as About['wanted'] })}
        >
          <option value="any">at any time</option>
          <option value="window">in the next window</option>
          <option value="time">at a time</option>
        </select>
      </Field>
      {about.wanted === 'time' && (
        <Field>
          Time, in your own zone
          <input
            type="datetime-local"
            value={about.time}
            onChange={(event) => change({ ...about, time: event.target.value })}
          />
        </Field>
      )}
      {moment && about.wanted !== 'any' && (
        <p className={about.wanted === 'window' || moment.allowed ? 'text-ink2' : 'font-semibold text-warn'}>
          {onto} {about.wanted === 'window' ? 'is now' : 'is then'} {momentWords(moment, clock)}
        </p>
      )}
    </>
  );
}
