import type { JSX } from 'react';
import { TextButton } from './button.js';
import { Field } from './field.js';

interface Pick {
  readonly id: string;
  readonly name: string;
}

/** Chooses some of many by name: those chosen stand in a list, the others in a menu. */
export function PickList({
  title,
  one,
  nobody,
  all,
  chosen,
  choose,
}: {
  /** What those chosen are, such as `Members`. */
  readonly title: string;
  /** What the menu adds, such as `member`. */
  readonly one: string;
  /** What it means to choose none. */
  readonly nobody: string;
  readonly all: readonly Pick[];
  readonly chosen: readonly string[];
  readonly choose: (chosen: string[]) => void;
}): JSX.Element {
  return (
    <div className="grid gap-4">
      {chosen.length > 0 && (
        <>
          <span className="text-small text-ink2">{title}</span>
          <ul>
            {chosen.map((id) => {
              const name = all.find((each) => each.id === id)?.name ?? id;
              return (
                <li
                  className="flex flex-row items-baseline justify-between gap-8 border-b border-line py-4 text-base"
                  key={id}
                >
                  {name}
                  <TextButton
                    aria-label={`Take out ${name}`}
                    onClick={() => choose(chosen.filter((each) => each !== id))}
                  >
                    Take out
                  </TextButton>
                </li>
              );
            })}
          </ul>
        </>
      )}
      <Field>
        {chosen.length === 0 ? one.replace(/^./, (letter) => letter.toUpperCase()) : `One more ${one}`}
        <select value="" onChange={(event) => event.target.value !== '' && choose([...chosen, event.target.value])}>
          <option value="">{chosen.length === 0 ? nobody : 'nobody else'}</option>
          {all
            .filter((each) => !chosen.includes(each.id))
            .map((each) => (
              <option key={each.id} value={each.id}>
                {each.name}
              </option>
            ))}
        </select>
      </Field>
    </div>
  );
}
