import type { Preview } from '@tessarion/contract';
import { type Address, formatLocation, isOpenRequest, plainSentence } from '@tessarion/core';
import { newCopy } from '../fleet/new-copy.js';
import { previewPath } from '../fleet/preview-path.js';
import { profileOfSite } from '../fleet/profiles.js';
import { getForecast } from '../forecasts/forecasts.js';
import { readyToGo } from '../forecasts/ready-to-go.js';
import { iso, type OnRecords } from '../ground/open.js';
import { ProblemError } from '../ground/problems.js';
import type { Doer } from '../people/people.js';
import { type Inputs, inputOf } from '../transfers/inputs.js';
import type { Installation } from '../transfers/installation.js';
import type { TransferRecord } from '../transfers/transfers.js';
import { tell } from './moves.js';
import type { RequestRecord } from './requests.js';

const UNDER_WAY = ['waiting', 'running', 'stopping'];
/** Wait before a removal that failed is tried again. */
const AGAIN_MS = 10 * 60_000;

/** The request that an environment previews, by its place; undefined for any other environment. */
export async function requestPreviewedAt(on: OnRecords, path: string): Promise<RequestRecord | undefined> {
  const id = /\/preview-([0-9a-z]{10})$/.exec(path)?.[1];
  return id === undefined
    ? undefined
    : ((await on<RequestRecord>('change_request')
        .where({ id: `q-${id}` })
        .first()) as RequestRecord | undefined);
}

/** Transfers that are under way onto an environment. */
const underWay = (on: OnRecords, path: string): Promise<{ kind: string } | undefined> =>
  on('transfer').where({ onto_path: path }).whereIn('state', UNDER_WAY).first('kind');

/**
 * Begins to make a request's preview, or to make it anew, as its current revision is.
 *
 * @throws {ProblemError} `conflict`, `checks-failed`, `unsettled`
 */
export async function beginPreview(
  trx: OnRecords,
  installation: Installation,
  request: RequestRecord,
  by: Doer,
): Promise<TransferRecord> {
  const { environments, transfers, servers } = installation;
  const path = previewPath(request);
  if (!isOpenRequest(request.state) || request.state === 'delivering')
    throw new ProblemError(
      'conflict',
      `Change request ${request.id} is ${request.state}.`,
      'Look at the destination itself.',
    );
  if (await underWay(trx, path))
    throw new ProblemError('conflict', `${path} is being made already.`, 'Wait until it is there.');
  const forecast = await getForecast(trx, request.forecast);
  readyToGo(forecast, `tessarion request revise ${request.id}`);
  const [source, version] = [await environments.get(trx, request.onto_path), await profileOfSite(trx, request.site)];
  if (!version)
    throw new ProblemError(
      'checks-failed',
      `${request.site} has no profile, so nobody has said what may be copied.`,
      'Give it one.',
    );
  const standing = await environments.find(trx, path);
  if (standing && standing.preview?.request !== request.id)
    throw new ProblemError(
      'taken',
      `${path} is something else.`,
      `Rename it, or remove it: tessarion env show ${path}`,
    );
  if (!standing) {
    const { record } = newCopy(
      {
        site: request.site,
        name: path.slice(request.site.length + 1),
        kind: 'staging',
        preview: { request: request.id, revision: request.revision },
        madeFrom: source.path,
        source,
        server: await servers.get(trx, source.server),
        profile: version.profile,
      },
      installation,
    );
    await environments.insert(trx, record);
  }
  const input: Inputs['preview'] = {
    request: request.id,
    revision: request.revision,
    forecast: forecast.id,
    of: request.onto_path,
    from: request.from_path,
    undoes: request.undoes,
  };
  const transfer = await transfers.create(trx, {
    kind: 'preview',
    from: request.onto_path,
    onto: path,
    site: request.site,
    sentence: plainSentence({ kind: 'preview', onto: path, of: request.onto_path, title: request.title }),
    by,
    input,
  });
  await tell(trx, request);
  return transfer;
}

/** Begins to remove a request's preview. @throws {ProblemError} `not-found`, `conflict` */
export async function endPreview(
  trx: OnRecords,
  { environments, transfers }: Installation,
  request: RequestRecord,
  by: Doer,
): Promise<TransferRecord> {
  const path = previewPath(request);
  if ((await environments.find(trx, path))?.preview?.request !== request.id)
    throw new ProblemError(
      'not-found',
      `Change request ${request.id} has no preview.`,
      `Make one: tessarion request preview ${request.id}`,
    );
  if (await underWay(trx, path))
    throw new ProblemError('conflict', `Something is under way onto ${path}.`, 'Wait until it is done, or stop it.');
  const transfer = await transfers.create(trx, {
    kind: 'remove',
    from: null,
    onto: path,
    site: request.site,
    sentence: plainSentence({ kind: 'remove', environment: path }),
    by,
    input: {},
  });
  await tell(trx, request);
  return transfer;
}

/** A request's preview as people see it; null where there is none. */
export async function showPreview(
  on: OnRecords,
  { environments, transfers }: Pick<Installation, 'environments' | 'transfers'>,
  request: RequestRecord,
): Promise<Preview | null> {
  const path = previewPath(request);
  const newest = (await on('transfer')
    .where({ onto_path: path, kind: 'preview' })
    .orderBy('created_at', 'desc')
    .orderBy('id', 'desc')
    .first('id')) as { id: string } | undefined;
  if (!newest) return null;
  const transfer = await transfers.get(on, newest.id);
  const { revision } = inputOf(transfer, 'preview');
  const environment = await environments.find(on, path);
  const made = { environment: path, transfer: transfer.id };
  if (UNDER_WAY.includes(transfer.state))
    return { ...made, url: urlOf(environment), state: 'making', revision, at: null, because: null };
  if (transfer.state === 'failed')
    return { ...made, url: '', state: 'failed', revision, at: null, because: transfer.failure?.message ?? '' };
  if (environment?.status !== 'ready') return null;
  const at = iso(environment.refreshed_at);
  return { ...made, url: urlOf(environment), state: 'ready', revision, at, because: null };
}

const urlOf = (environment: { readonly addresses: readonly Address[] } | undefined): string =>
  environment?.addresses[0] ? formatLocation(environment.addresses[0]) : '';

/** Removes previews whose requests have ended; where that failed, it is tried again after a while. */
export async function removePreviews(installation: Installation): Promise<void> {
  const { records, journal, now } = installation;
  const ended = (await records('environment as e')
    .joinRaw("JOIN change_request r ON r.id = e.preview ->> 'request'")
    .whereIn('r.state', ['delivered', 'undone', 'withdrawn'])
    .whereNotExists(
      records('transfer')
        .whereRaw('onto_path = e.path')
        .where((one) =>
          one
            .whereIn('state', UNDER_WAY)
            .orWhere((failed) =>
              failed
                .where({ kind: 'remove', state: 'failed' })
                .where('ended_at', '>', new Date(now().getTime() - AGAIN_MS)),
            ),
        ),
    )
    .select('r.*')) as RequestRecord[];
  for (const request of ended)
    await records.transaction(async (trx) => {
      const transfer = await endPreview(trx, installation, request, { id: null, name: 'Tessarion' });
      await journal.write(trx, {
        actor: `end of ${request.id}`,
        act: 'previewRemove',
        outcome: 'done',
        thing: transfer.onto_path,
        details: { request: request.id, transfer: transfer.id },
        who: undefined,
      });
    });
}
