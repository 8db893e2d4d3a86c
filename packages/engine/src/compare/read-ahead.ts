const AHEAD = 4;

/**
 * Asks for the next values of an iterator before they are needed, so that several sources are read side by side. A
 * failure is thrown where its value would have been given.
 */
export function readAhead<T>(from: AsyncIterator<T>): AsyncIterator<T> {
  const waiting: Promise<IteratorResult<T>>[] = [];
  let isEnded = false;
  const ask = (): void => {
    const next = from.next();
    next.then(
      (result) => {
        isEnded ||= result.done === true;
      },
      () => {
        isEnded = true;
      },
    );
    waiting.push(next);
  };
  return {
    next: () => {
      while (waiting.length < AHEAD && !isEnded) ask();
      return waiting.shift() ?? Promise.resolve({ done: true, value: undefined });
    },
    return: async () => {
      await Promise.allSettled(waiting);
      await from.return?.();
      return { done: true, value: undefined };
    },
  };
}
