import type { ForecastCollision, ForecastItem, RequestDetail } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Button } from '../../parts/button.js';
import { useForecast } from '../../session.js';
import type { Deeds } from './use-request.js';

/** What collides in an item, settled right in the request: the choice becomes its next revision. */
export function Collisions({
  request,
  item,
  deeds,
}: {
  readonly request: RequestDetail;
  readonly item: ForecastItem;
  readonly deeds: Deeds;
}): JSX.Element | null {
  const forecast = useForecast(request.forecast);
  const maySettle = request.acts.some((one) => one.act === 'revise' && one.allowed);
  const wishes = forecast.data?.wishes;
  if (item.collisions.length === 0) return null;
  return (
    <section className="mx-16 mb-8 flex flex-col gap-8 border-l-3 border-accent px-12 py-8" aria-label="What collides">
      {item.collisions.map((one) => (
        <Collision
          key={one.id}
          collision={one}
          field={item.fields.find((field) => field.collision === one.id)?.after ?? null}
          from={request.from.split('/')[1] ?? request.from}
          onto={request.onto.split('/')[1] ?? request.onto}
          settle={
            maySettle && wishes && !deeds.isPending
              ? (take) =>
                  deeds.mutate({
                    act: 'revise',
                    wishes: { settlements: { ...wishes.settlements, [one.id]: take } },
                  })
              : undefined
          }
        />
      ))}
    </section>
  );
}

type Take = { take: 'source' | 'destination' } | { take: 'edited'; value: string };

function Collision({
  collision,
  field,
  from,
  onto,
  settle,
}: {
  readonly collision: ForecastCollision;
  readonly field: string | null;
  readonly from: string;
  readonly onto: string;
  /** Absent for who may not, and while it is looked at again. */
  readonly settle: ((take: Take) => void) | undefined;
}): JSX.Element {
  const [text, setText] = useState<string>();
  const taken = collision.settled?.take;
  const way = (take: 'source' | 'destination', words: string): JSX.Element | null =>
    collision.allowed.includes(take) ? (
      <Button small aria-pressed={taken === take} disabled={!settle} onClick={() => settle?.({ take })}>
        {words}
      </Button>
    ) : null;
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    settle?.({ take: 'edited', value: text ?? '' });
    setText(undefined);
  };
  return (
    <div className={taken ? 'text-ink2' : ''}>
      <p className="mb-4">
        {collision.field !== null && <b>{collision.field}: </b>}
        {collision.words}
      </p>
      <div className="flex flex-wrap gap-8">
        {way('source', `Take ${from}’s`)}
        {way('destination', `Keep ${onto}’s`)}
        {collision.allowed.includes('edited') && text === undefined && (
          <Button
            small
            aria-pressed={taken === 'edited'}
            disabled={!settle}
            onClick={() => setText(collision.settled?.value ?? field ?? '')}
          >
            Write another
          </Button>
        )}
      </div>
      {text !== undefined && (
        <form className="mt-8 flex max-w-760 flex-col gap-6" onSubmit={submit}>
          <textarea
            aria-label={`Another ${collision.field ?? 'value'}`}
            autoFocus
            rows={2}
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
          <span className="flex flex-row items-center gap-8">
            <Button type="submit" small main>
              Take this
            </Button>
            <Button small onClick={() => setText(undefined)}>
              Leave it
            </Button>
          </span>
        </form>
      )}
    </div>
  );
}
