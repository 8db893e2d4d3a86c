import type { EnvironmentKind } from '@tessarion/core';

const RANK: Record<EnvironmentKind, number> = { dev: 0, staging: 1, live: 2 };

/** Of two environments the one further from live; between two of one kind the later by name. */
export function lowerOf(
  a: { path: string; kind: EnvironmentKind },
  b: { path: string; kind: EnvironmentKind },
): string {
  if (RANK[a.kind] !== RANK[b.kind]) return RANK[a.kind] < RANK[b.kind] ? a.path : b.path;
  return [a.path, b.path].sort()[1] as string;
}
