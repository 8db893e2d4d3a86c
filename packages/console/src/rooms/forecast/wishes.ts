import { useQueryClient } from '@tanstack/react-query';
import type { Forecast, ForecastItem, ForecastWishes } from '@tessarion/contract';
import { useEffect, useRef, useState } from 'react';
import { client } from '../../session.js';

/** How a collision is settled. */
export type Take = ForecastWishes['settlements'][string];

/** What a person chose and settled in a forecast. It is kept with the forecast, so that it survives a reload. */
export interface Wishes {
  readonly current: ForecastWishes;
  /** The forecast is being counted anew. */
  readonly isCounting: boolean;
  readonly error: unknown;
  /** Puts items in or leaves them out. */
  readonly choose: (items: readonly ForecastItem[], isChosen: boolean) => void;
  /** Puts all items in, those too that a later forecast finds. */
  readonly all: () => void;
  /** Puts some items in, and leaves all others out. */
  readonly only: (items: readonly ForecastItem[]) => void;
  /** The items to which it was narrowed last, until they are counted. */
  readonly narrowed: ReadonlySet<string> | undefined;
  readonly settle: (collision: string, take: Take | undefined) => void;
  /** Has a task run that changes the schema, or not. */
  readonly run: (task: string, isChosen: boolean) => void;
}

const PAUSE_MS = 250;

/** Sends wishes when a person pauses; until the answer is there, what is shown follows them. */
export function useWishes(forecast: Forecast): Wishes {
  const cache = useQueryClient();
  const [pending, setPending] = useState<ForecastWishes>();
  const [error, setError] = useState<unknown>();
  const [narrowed, setNarrowed] = useState<ReadonlySet<string>>();
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const current = pending ?? forecast.wishes;
  useEffect(() => () => clearTimeout(timer.current), []);
  useEffect(() => {
    if (forecast.state === 'ready' && pending && same(forecast.wishes, pending)) {
      setPending(undefined);
      setNarrowed(undefined);
    }
  }, [forecast, pending]);
  const wish = (next: ForecastWishes, narrowed?: ReadonlySet<string>): void => {
    setNarrowed(narrowed);
    setPending(next);
    setError(undefined);
    clearTimeout(timer.current);
    timer.current = setTimeout(() => {
      client.call('forecastSettle', { params: { id: forecast.id }, body: next }).then(
        (answer) => cache.setQueryData<Forecast>(['forecast', forecast.id], answer),
        (reason: unknown) => {
          setPending(undefined);
          setError(reason);
        },
      );
    }, PAUSE_MS);
  };
  return {
    current,
    isCounting: pending !== undefined || forecast.state === 'computing',
    error,
    choose: (items, isChosen) => {
      const ids = new Set(items.map((item) => item.id));
      const without = (list: readonly string[]): string[] => list.filter((id) => !ids.has(id));
      const named = current.only.length > 0;
      const next = {
        ...current,
        only: named ? [...without(current.only), ...(isChosen ? ids : [])] : [],
        except: [...without(current.except), ...(isChosen ? [] : ids)],
      };
      const still = narrowed && new Set([...[...narrowed].filter((id) => !ids.has(id)), ...(isChosen ? ids : [])]);
      wish(next, still);
    },
    all: () => wish({ ...current, only: [], except: [] }),
    only: (items) => {
      const ids = items.map((item) => item.id);
      wish({ ...current, only: ids, except: [] }, new Set(ids));
    },
    narrowed,
    settle: (collision, take) => {
      const { [collision]: _former, ...others } = current.settlements;
      wish({ ...current, settlements: take ? { ...others, [collision]: take } : others });
    },
    run: (task, isChosen) => {
      const others = (current.tasks ?? []).filter((name) => name !== task);
      wish({ ...current, tasks: isChosen ? [...others, task] : others });
    },
  };
}

const same = (a: ForecastWishes, b: ForecastWishes): boolean => {
  const parts = (one: ForecastWishes) => [
    [...one.only].sort(),
    [...one.except].sort(),
    Object.entries(one.settlements).sort(([x], [y]) => (x < y ? -1 : 1)),
    one.rest,
    [...(one.tasks ?? [])].sort(),
  ];
  return JSON.stringify(parts(a)) === JSON.stringify(parts(b));
};
