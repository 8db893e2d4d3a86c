/**
 * Compiles a pattern in which `*` stands for any text. Its time grows with pattern and text, however they are made: each part is
 * looked for once, from where the one before it ended.
 */
export function compilePattern(pattern: string): (text: string) => boolean {
  const [first = '', ...others] = pattern.split('*');
  const last = others.pop();
  if (last === undefined) return (text) => text === first;
  return (text) => {
    const end = text.length - last.length;
    if (end < first.length || !text.startsWith(first) || !text.endsWith(last)) return false;
    let at = first.length;
    for (const part of others) {
      const found = text.indexOf(part, at);
      if (found === -1) return false;
      at = found + part.length;
    }
    return at <= end;
  };
}

type Step = string | 'name' | 'names' | 'folders';

const STEPS = { '*': 'name', '**': 'names', '**/': 'folders' } as const;

/**
 * Tells whether a path is of a pattern: `*` stands for any text but a slash, `**` for any, and `**` before a slash for any
 * folders or none. All places that the pattern may have come to are followed at once, so that its time grows with the
 * pattern's length times the path's at most.
 */
export function matchesPath(pattern: string, path: string): boolean {
  let places = new Set([0]);
  for (const part of pattern.split(/(\*\*\/|\*\*|\*)/)) {
    if (part === '') continue;
    places = Object.hasOwn(STEPS, part)
      ? afterStep(STEPS[part as keyof typeof STEPS], places, path)
      : afterText(part, places, path);
    if (places.size === 0) return false;
  }
  return places.has(path.length);
}

function afterText(text: string, places: ReadonlySet<number>, path: string): Set<number> {
  const found = new Set<number>();
  for (const at of places) if (path.startsWith(text, at)) found.add(at + text.length);
  return found;
}

function afterStep(step: Step, places: ReadonlySet<number>, path: string): Set<number> {
  const found = new Set(step === 'folders' ? places : []);
  let isFollowed = false;
  for (let at = Math.min(...places); at <= path.length; at++) {
    if (step === 'name' && at > 0 && path[at - 1] === '/') isFollowed = false;
    isFollowed ||= places.has(at);
    if (isFollowed && (step !== 'folders' || path[at - 1] === '/')) found.add(at);
  }
  return found;
}
