import type { ProfileVersion } from '@tessarion/contract';
import {
  composeLayers,
  type LayerCheck,
  type NamedLayer,
  type Origins,
  type Profile,
  readLayer,
} from '@tessarion/core';
import { LRUCache } from 'lru-cache';
import type { z } from 'zod';
import { noProfile } from '../ground/absent.js';
import type { OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import { type Doer, doneBy } from '../people/people.js';

/** A version of a profile in the records. */
export interface ProfileRecord {
  readonly name: string;
  readonly version: number;
  readonly title: string;
  readonly text: string;
  readonly created_at: Date;
  readonly person: string;
}

/** A profile with everything that it is composed of. */
export interface ComposedProfile extends ProfileRecord {
  readonly profile: Profile;
  readonly origins: Origins;
  readonly layers: readonly NamedLayer[];
  /** Names and versions of all layers: another one means that rules may be others. */
  readonly edition: string;
}

/** The newest version, or a certain one. @throws {ProblemError} `not-found` */
export async function getProfile(on: OnRecords, name: string, version?: number): Promise<ProfileRecord> {
  const wanted = on<ProfileRecord>('profile').where({ name }).orderBy('version', 'desc');
  const row = await (version === undefined ? wanted : wanted.where({ version })).first();
  if (!row) throw noProfile(name, version);
  return row as ProfileRecord;
}

/** Every profile in its newest version, by name. */
export async function newestProfiles(on: OnRecords): Promise<ProfileRecord[]> {
  const found = await on.raw<{ rows: ProfileRecord[] }>(
    'SELECT DISTINCT ON (name) * FROM profile ORDER BY name, version DESC',
  );
  return found.rows;
}

/** Layers by their text: reading one takes as long as a small comparison, and every transfer asks for several. */
const readings = new LRUCache<string, LayerCheck>({ max: 300 });

function readText(text: string): LayerCheck {
  const read = readings.get(text) ?? readLayer(text);
  readings.set(text, read);
  return read;
}

function readRecord(record: ProfileRecord): NamedLayer {
  const read = readText(record.text);
  if (read.ok) return { name: record.name, version: record.version, ...read.layer };
  const [first] = read.mistakes;
  throw new ProblemError(
    'invalid',
    `The profile ${record.name} is not valid any more: line ${first?.line}, ${first?.message}.`,
    'Save a corrected version: tessarion profile save FILE',
  );
}

/**
 * Composes a profile of the newest versions of its base and parts.
 *
 * @param instead a version of a layer that is not on record yet
 * @throws {ProblemError} `invalid`
 */
export async function composeRecord(
  on: OnRecords,
  record: ProfileRecord,
  instead?: ProfileRecord,
): Promise<ComposedProfile> {
  const own = readRecord(record);
  const { base, parts } = own.document;
  const layers: NamedLayer[] = [];
  const texts: string[] = [];
  for (const name of [...(base === undefined ? [] : [base]), ...(parts ?? [])]) {
    const found = name === instead?.name ? instead : await newest(on, name);
    if (!found)
      throw new ProblemError(
        'invalid',
        `${record.name} stands on ${name}, and there is no such profile.`,
        `Save ${name} first, or take it out.`,
      );
    const layer = readRecord(found);
    const isPart = layer.document.tessarion === 'part/1';
    if (isPart !== (name !== base))
      throw new ProblemError(
        'invalid',
        `${name} is a ${isPart ? 'part' : 'profile'}, and ${record.name} names it as ${isPart ? 'its base' : 'a part'}.`,
        isPart ? `Name it under "parts".` : `Name it as "base".`,
      );
    if (!isPart && layer.document.base !== undefined)
      throw new ProblemError(
        'invalid',
        `${name} stands on ${layer.document.base} itself, and cannot be the base of ${record.name}.`,
        'Take the same base, and the parts that both have in common.',
      );
    layers.push(layer);
    texts.push(found.text);
  }
  layers.push(own);
  const composed = compose(layers, [...texts, record.text]);
  if (!composed.ok) {
    const fields = composed.mistakes.map(({ layer, line, path, message }) => ({
      path: `${layers.length > 1 ? `${layer}, ` : ''}line ${line}${path === '' ? '' : ` ${path}`}`,
      message,
    }));
    throw new ProblemError(
      'invalid',
      `The profile ${record.name} has ${fields.length === 1 ? 'a mistake' : `${fields.length} mistakes`}: ${fields[0]?.path}: ${fields[0]?.message}.`,
      'Correct it: tessarion profile check FILE names every line.',
      fields,
    );
  }
  const edition = layers.map((one) => `${one.name}/${one.version}`).join(' ');
  return { ...record, profile: composed.profile, origins: composed.origins, layers, edition };
}

type Composed = ReturnType<typeof composeLayers>;

/** Compositions by all that they are made of: each step of a transfer asks for its profile, some while visitors wait. */
const compositions = new LRUCache<string, Composed>({ max: 100 });

function compose(layers: readonly NamedLayer[], texts: readonly string[]): Composed {
  const key = JSON.stringify(layers.map(({ name, version }, i) => [name, version, texts[i]]));
  const composed = compositions.get(key) ?? composeLayers(layers);
  compositions.set(key, composed);
  return composed;
}

async function newest(on: OnRecords, name: string): Promise<ProfileRecord | undefined> {
  return (await on<ProfileRecord>('profile').where({ name }).orderBy('version', 'desc').first()) as
    | ProfileRecord
    | undefined;
}

/** The profile of a site as it is composed now, or undefined where the site has none. */
export async function profileOfSite(on: OnRecords, site: string): Promise<ComposedProfile | undefined> {
  const row = (await on('site').where({ name: site }).first('profile')) as { profile: string | null } | undefined;
  if (!row || row.profile === null) return undefined;
  return composeRecord(on, await getProfile(on, row.profile));
}

/** The profiles that are composed of a layer, without that layer itself. */
async function standingOn(on: OnRecords, name: string): Promise<ProfileRecord[]> {
  return (await newestProfiles(on)).filter((record) => {
    const read = readText(record.text);
    if (!read.ok) return false;
    const { base, parts } = read.layer.document;
    return base === name || parts?.includes(name);
  });
}

/** The sites that a profile or part reaches, by itself or through profiles that are composed of it. */
export async function sitesOf(on: OnRecords, name: string): Promise<string[]> {
  const names = [name, ...(await standingOn(on, name)).map((one) => one.name)];
  const sites = (await on('site').whereIn('profile', names).orderBy('position').select('name')) as { name: string }[];
  return sites.map((site) => site.name);
}

/** The newest version of a profile, if there is one, when nobody else saves any until the transaction ends. */
export async function holdNewest(trx: OnRecords, name: string): Promise<ProfileRecord | undefined> {
  await trx.raw('SELECT pg_advisory_xact_lock(29780, 0)');
  return newest(trx, name);
}

/**
 * Saves a new version. It must go together with its base and parts, and every profile that is composed of it with the
 * new version.
 *
 * @throws {ProblemError} `invalid`
 */
export async function saveProfile(
  on: OnRecords,
  wanted: { readonly name: string; readonly text: string; readonly by: Doer; readonly now: Date },
): Promise<ProfileRecord> {
  const last = await holdNewest(on, wanted.name);
  const read = readText(wanted.text);
  if (!read.ok) {
    const fields = read.mistakes.map((mistake) => ({
      path: `line ${mistake.line}${mistake.path === '' ? '' : ` ${mistake.path}`}`,
      message: mistake.message,
    }));
    throw new ProblemError(
      'invalid',
      `The profile has ${fields.length === 1 ? 'a mistake' : `${fields.length} mistakes`}: ${fields[0]?.path}: ${fields[0]?.message}.`,
      'Correct it: tessarion profile check FILE names every line.',
      fields,
    );
  }
  const { document } = read.layer;
  if (document.name !== wanted.name)
    throw new ProblemError('invalid', `The document calls itself "${document.name}".`, `Save it as ${document.name}.`);
  const row: ProfileRecord = {
    name: wanted.name,
    version: (last?.version ?? 0) + 1,
    title: document.title,
    text: wanted.text,
    created_at: wanted.now,
    ...doneBy(wanted.by),
  };
  if (document.tessarion === 'profile/1') await composeRecord(on, row);
  for (const dependent of await standingOn(on, wanted.name)) {
    if (dependent.name === wanted.name) continue;
    await composeRecord(on, dependent, row).catch((error: unknown) => {
      if (!(error instanceof ProblemError)) throw error;
      throw new ProblemError(
        'invalid',
        `With this version of ${wanted.name}, ${dependent.name} would not be right any more. ${error.message}`,
        `Correct this one, or change ${dependent.name} first.`,
        error.fields,
      );
    });
  }
  await on('profile').insert(row);
  return row;
}

/** The entity tag of a profile is the number of its newest version, so that people can name it. */
export const profileTag = ({ version }: Pick<ProfileRecord, 'version'>): string => String(version);

/** A profile or part as the interface lists it. */
export async function toProfileVersion(on: OnRecords, row: ProfileRecord): Promise<z.infer<typeof ProfileVersion>> {
  const read = readLayer(row.text);
  const document = read.ok ? read.layer.document : undefined;
  return {
    name: row.name,
    version: row.version,
    title: row.title,
    kind: document?.tessarion === 'part/1' ? 'part' : 'profile',
    base: document?.base ?? null,
    parts: document?.parts ?? [],
    createdAt: row.created_at.toISOString(),
    person: row.person,
    sites: await sitesOf(on, row.name),
    etag: profileTag(row),
  };
}
