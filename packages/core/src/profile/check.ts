import { composeLayers } from './compose.js';
import { type ProfileMistake, readLayer } from './layer.js';
import type { Profile } from './schema.js';

/** A profile, or every mistake in it. */
export type ProfileCheck =
  | { readonly ok: true; readonly profile: Profile }
  | { readonly ok: false; readonly mistakes: readonly ProfileMistake[] };

/** Reads a profile that is one document, and names every mistake with its line. */
export function checkProfile(text: string): ProfileCheck {
  const read = readLayer(text);
  if (!read.ok) return read;
  const composed = composeLayers([{ name: read.layer.document.name, version: 1, ...read.layer }]);
  return composed.ok ? { ok: true, profile: composed.profile } : { ok: false, mistakes: composed.mistakes };
}
