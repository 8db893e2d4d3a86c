import type { Forecast, ForecastItem, ShownFile } from '@tessarion/contract';
import { type ByteString, compareLane, decide, personalFields, shownFields } from '@tessarion/core';
import { toEngine } from '../../fleet/environments.js';
import { profileOfSite } from '../../fleet/profiles.js';
import { readItem, type StoredItem } from '../../forecasts/forecast-items.js';
import {
  beginAnew,
  beginForecast,
  type ForecastRecord,
  type ForecastResult,
  getForecast,
  holdForecast,
  type NewForecast,
} from '../../forecasts/forecasts.js';
import { fileNow, fileStored, picturePlaces, placeOfFile } from '../../forecasts/shown-file.js';
import { NO_WISHES, withoutAbsent } from '../../forecasts/transfer-facts.js';
import { readPosition } from '../../ground/cursor.js';
import type { OnRecords } from '../../ground/open.js';
import { ProblemError } from '../../ground/problems.js';
import { findPair, getSnapshot, libraryOf } from '../../stored/snapshots.js';
import type { Installation } from '../../transfers/installation.js';
import { mustBeUndoable } from '../../transfers/transfers.js';
import type { Call, Handlers } from './call.js';

const EMPTY: ForecastResult = {
  sentence: [],
  button: '',
  direction: 'up',
  unsettled: 0,
  written: [],
  kept: [],
  neverMoves: [],
  lost: [],
  unclassified: [],
  parts: [],
  rewrites: [],
  touched: [],
  tasks: [],
  checks: [],
  estimateSeconds: null,
  holdMilliseconds: null,
  baselineAt: null,
  fingerprint: '',
  itemCount: 0,
};

const toForecast = (record: ForecastRecord): Forecast => ({
  id: record.id,
  state: record.state,
  from: record.from_path,
  onto: record.onto_path,
  snapshot: record.snapshot,
  undoes: record.undoes,
  method: record.method,
  wishes: record.wishes,
  createdAt: record.created_at.toISOString(),
  failure: record.failure,
  ...EMPTY,
  // One that a former version computed says less.
  ...record.result,
});

async function begin({ records, now }: Installation, wanted: NewForecast, person: Call['person']): Promise<Forecast> {
  const id = await records.transaction(async (trx) => {
    await mustHaveRoom(trx, person.id);
    return beginForecast(trx, wanted, person, now());
  });
  return toForecast(await getForecast(records, id));
}

export const forecastHandlers: Handlers<
  'forecastCreate' | 'forecastUndo' | 'forecastShow' | 'forecastSettle' | 'forecastItems' | 'forecastFile'
> = {
  async forecastCreate({ installation, body, person }) {
    const { records, environments } = installation;
    const [from, onto] = [await environments.get(records, body.from), await environments.get(records, body.onto)];
    if (body.snapshot === undefined) {
      const verdict = compareLane(from, onto);
      if (!verdict.allowed) throw new ProblemError('lane-closed', verdict.reason, verdict.next);
    } else if ((await getSnapshot(records, body.snapshot)).site !== onto.site) {
      throw new ProblemError(
        'lane-closed',
        `Snapshot ${body.snapshot} is of another site.`,
        `Choose a snapshot of ${onto.site}.`,
      );
    }
    for (const end of [from, onto])
      if (end.status !== 'ready') throw new ProblemError('conflict', `${end.path} is not ready.`, 'Wait until it is.');
    const wanted: NewForecast = {
      from_path: from.path,
      onto_path: onto.path,
      snapshot: body.snapshot ?? null,
      // A snapshot has nothing in common with an environment that went on: the destination becomes as it was.
      method: body.snapshot === undefined ? (body.method ?? 'merge') : 'replace',
      wishes: { ...NO_WISHES, ...withoutAbsent(body.wishes ?? {}) },
    };
    return begin(installation, wanted, person);
  },
  async forecastUndo({ installation, params, body, person }) {
    const { records, transfers, environments } = installation;
    const transfer = await transfers.get(records, params.id);
    mustBeUndoable(transfer);
    const onto = await environments.get(records, transfer.onto_path);
    if (onto.status !== 'ready') throw new ProblemError('conflict', `${onto.path} is not ready.`, 'Wait until it is.');
    const wanted: NewForecast = {
      from_path: onto.path,
      onto_path: onto.path,
      undoes: transfer.id,
      method: 'merge',
      // What others changed since stays, unless somebody says otherwise.
      wishes: { ...NO_WISHES, rest: 'destination', ...withoutAbsent(body) },
    };
    return begin(installation, wanted, person);
  },
  async forecastShow({ installation, params }) {
    return toForecast(await getForecast(installation.records, params.id));
  },
  async forecastSettle({ installation, params, body }) {
    const { records } = installation;
    await records.transaction(async (trx) => {
      const record = await holdForecast(trx, params.id);
      // What reviewers look at stays what they looked at.
      const revision = await trx('request_revision').where({ forecast: record.id }).first('request_id');
      if (revision || record.request !== null)
        throw new ProblemError(
          'conflict',
          `Forecast ${record.id} belongs to change request ${revision?.request_id ?? record.request}.`,
          `Choose anew there: tessarion request revise ${revision?.request_id ?? record.request}`,
        );
      await beginAnew(trx, record.id, { ...record.wishes, ...withoutAbsent(body) });
    });
    return toForecast(await getForecast(installation.records, params.id));
  },
  async forecastFile(call) {
    const { installation, params, query } = call;
    const { records, environments } = installation;
    const forecast = await getForecast(installation.records, params.id);
    const item = await records('forecast_item')
      .where({ forecast_id: params.id })
      .whereRaw("item ->> 'id' = ?", [query.item])
      .first('item', 'fields');
    const file = item && item.fields === null && query.field === undefined ? placeOfFile(query.item) : undefined;
    const seen = item && query.field !== undefined ? await asSeen(call, forecast) : undefined;
    const field = seen?.(readItem(item, installation.folder.keys)).fields.find((one) => one.name === query.field);
    // Only what a forecast lists is shown: files, and pictures that a field names.
    if (!file && field?.show !== 'picture')
      throw new ProblemError(
        'not-found',
        query.field === undefined
          ? `Forecast ${params.id} lists no file ${query.item}.`
          : `No field ${query.field} of ${query.item} names a picture.`,
        'List its items.',
      );
    const library = libraryOf(installation.folder, forecast.onto_path.split('/')[0] as string);
    const record = await environments.get(records, query.side === 'source' ? forecast.from_path : forecast.onto_path);
    const profile = (await profileOfSite(records, record.site))?.profile;
    const environment = toEngine(record, profile);
    let manifest = query.side === 'source' ? forecast.snapshot : null;
    if (query.side === 'base') {
      const pair = await findPair(records, forecast.from_path, forecast.onto_path);
      manifest = (pair?.lower === forecast.from_path ? pair.lower_manifest : pair?.upper_manifest) ?? null;
      if (manifest === null) return { is: 'absent' };
    }
    const look = (root: string, path: ByteString): Promise<ShownFile> =>
      manifest === null ? fileNow(environment, root, path) : fileStored(library, manifest, root, path);
    if (file) return look(file.root, file.path);
    const named = field?.[query.side === 'destination' ? 'before' : query.side] ?? '';
    for (const { root, path } of picturePlaces(environment, named)) {
      const found = await look(root, path);
      // A field is read from the database, and may say anything: it leads to pictures, and to nothing else.
      if (found.is === 'picture') return found;
    }
    return { is: 'absent' };
  },
  async forecastItems(call) {
    const { installation, params, query } = call;
    const forecast = await getForecast(installation.records, params.id);
    const shown = await asSeen(call, forecast);
    const limit = query.limit ?? 200;
    const from = readPosition(query.cursor);
    const rows = await installation
      .records('forecast_item')
      .where({ forecast_id: params.id })
      .where('position', '>=', from)
      .orderBy('position')
      .limit(limit + 1)
      .select('item', 'fields');
    return {
      items: rows.slice(0, limit).map((row) => shown(readItem(row, installation.folder.keys))),
      next: rows.length > limit ? String(from + limit) : null,
    };
  },
};

const HIDDEN = 'hidden: personal';

/** Forecasts of one person that may be computed at once: they take the workers' time from those of others. */
const MOST_COMPUTING = 20;

/** @throws {ProblemError} `too-many-requests` */
async function mustHaveRoom(trx: OnRecords, person: string): Promise<void> {
  await trx('person').where({ id: person }).forUpdate().first('id');
  const [{ count }] = (await trx('forecast')
    .where({ person_id: person, state: 'computing' })
    .count({ count: '*' })) as [{ count: string }];
  if (Number(count) >= MOST_COMPUTING)
    throw new ProblemError(
      'too-many-requests',
      `${count} of your forecasts are being computed.`,
      'Wait until some of them are there.',
    );
}

/** An item as somebody sees it: fields with their looks, personal values only for those who may see live's. */
async function asSeen(
  { installation: { records }, actor }: Call,
  forecast: ForecastRecord,
): Promise<(item: StoredItem) => ForecastItem> {
  const [site, environment] = [forecast.onto_path.split('/')[0] as string, forecast.onto_path];
  const { client } = (await records('site').where({ name: site }).first('client')) as { client: string };
  const thing = { is: 'environment', site, client, environment, kind: 'live' } as const;
  const profile = (await profileOfSite(records, site))?.profile;
  const withLooks = (item: StoredItem): ForecastItem => ({ ...item, fields: shownFields(profile, item) });
  if (decide(actor, 'live.values', thing).allowed) return withLooks;
  return (stored) => {
    const item = withLooks(stored);
    const personal = personalFields(profile, item);
    if (personal.size === 0) return item;
    const cover = (value: string | null): string | null => (value === null ? null : HIDDEN);
    const fields = item.fields.map((field) =>
      personal.has(field.name)
        ? {
            ...field,
            base: cover(field.base),
            source: cover(field.source),
            before: cover(field.before),
            after: cover(field.after),
          }
        : field,
    );
    return { ...item, fields };
  };
}
