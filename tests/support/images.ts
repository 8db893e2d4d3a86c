import * as fs from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { freePort } from '@tessarion/cluster';
import { inject } from 'vitest';
import { withMaria } from './by-maria.js';
import { reachedBySsh } from './by-ssh.js';
import {
  keepStudio,
  putBackStudio,
  type Studio,
  type StudioOptions,
  type StudioPlace,
  startNewStudio,
  startStudioAgain,
} from './start-studio.js';

/** A state in which studios are kept. */
export interface Image {
  readonly name: string;
  /** What is done, one after the other, with a studio that has just been set up. */
  readonly steps: readonly ((studio: Studio) => Promise<void>)[];
}

const isThere = (file: string): Promise<boolean> =>
  fs.stat(file).then(
    () => true,
    () => false,
  );

/** A worker of the test run has one studio at a time that is put back, always in the same place: its records name it. */
let isTaken = false;

/** This worker's place, with ports that no outgoing connection takes. */
function ownPlace(): StudioPlace {
  const worker = Number(process.env.VITEST_POOL_ID ?? 1);
  const { folder, firstPort } = inject('templates');
  const port = firstPort + (worker - 1) * 5;
  return {
    data: join(folder, `worker-${worker}/studio`),
    ports: { siteDatabases: port, records: port + 1, webHost: port + 2, service: port + 3, gateway: port + 4 },
  };
}

/** A place where nothing is kept, for whoever wants a second studio, or one whose records the service makes. */
export async function newPlace(): Promise<StudioPlace> {
  const [siteDatabases, records, webHost, service, gateway] = await Promise.all(Array.from({ length: 5 }, freePort));
  const ports = { siteDatabases, records, webHost, service, gateway } as StudioPlace['ports'];
  return { data: await fs.mkdtemp(join(tmpdir(), 'tessarion-test-')), ports };
}

/** Starts a studio as it was kept; the first one of a worker is made and kept. */
export async function startFromImage(image: Image, options: StudioOptions): Promise<Studio> {
  if (isTaken) {
    const studio = await startNewStudio(await newPlace(), options, 'test');
    for (const step of image.steps) await step(studio);
    return asAsked(studio, options);
  }
  isTaken = true;
  const place = ownPlace();
  const kept = await keptImage(image, place);
  await putBackStudio(join(kept, 'studio'), place.data);
  const own = await startStudioAgain(place, options, () => fs.readFile(join(kept, 'token'), 'utf8'));
  const studio = await asAsked(own, options);
  return {
    ...studio,
    async stop() {
      await studio.stop();
      isTaken = false;
    },
  };
}

/** A studio whose server is reached, and whose databases are kept, as a test file asks for. */
async function asAsked(studio: Studio, { reach, system }: StudioOptions): Promise<Studio> {
  const own = system === 'mariadb' ? await withMaria(studio) : studio;
  // All that holds on the machine itself holds by SSH as well: whoever doubts it asks for it.
  return (reach ?? process.env.TESSARION_TEST_REACH) === 'ssh' ? reachedBySsh(own) : own;
}

/** @returns its folder */
async function keptImage({ name, steps }: Image, place: StudioPlace): Promise<string> {
  const folder = join(place.data, '..', name);
  // The token is written last.
  if (await isThere(join(folder, 'token'))) return folder;
  await fs.mkdir(folder, { recursive: true, mode: 0o711 });
  const studio = await startNewStudio(place, {}, 'test');
  for (const step of steps) await step(studio);
  await keepStudio(studio, join(folder, 'studio'));
  await fs.writeFile(join(folder, 'token'), studio.token);
  return folder;
}
