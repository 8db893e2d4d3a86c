import type { JSX } from 'react';

export interface Pick {
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
    <div className="pick-list">
      {chosen.length > 0 && (
        <>
          <span className="field-name">{title}</span>
          <ul className="plain">
            {chosen.map((id) => {
              const name = all.find((each) => each.id === id)?.name ?? id;
              return (
                <li key={id}>
                  {name}
                  <button
                    type="button"
                    className="bare-link"
                    aria-label={`Take out ${name}`}
                    onClick={() => choose(chosen.filter((each) => each !== id))}
                  >
                    Take out
                  </button>
                </li>
              );
            })}
          </ul>
        </>
      )}
      <label>
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
      </label>
    </div>
  );
}
