import { createCipheriv, createDecipheriv, randomBytes, timingSafeEqual } from 'node:crypto';
import { StringDecoder } from 'node:string_decoder';
import type { Change } from '@tessarion/core';
import { EngineError } from '../ports/errors.js';
import type { ObjectStore, OpenObject } from '../ports/objects.js';
import { IV_BYTES, SEAL_BYTES, sealFor } from './sealed.js';

const WRITE_CHARACTERS = 1 << 20;
const PURPOSE = 'changes';

/**
 * Writes changes one a line, encrypted and sealed (format in docs/formats.md), as an object.
 *
 * @param key 32 bytes
 */
export async function writeChanges(
  objects: ObjectStore,
  name: string,
  key: Buffer,
  changes: AsyncIterable<Change> | Iterable<Change>,
): Promise<void> {
  const iv = randomBytes(IV_BYTES);
  const cipher = createCipheriv('aes-256-ctr', key, iv);
  const seal = sealFor(key, PURPOSE);
  const object = await objects.create(name);
  const write = async (piece: Buffer): Promise<void> => {
    seal.update(piece);
    await object.append([piece]);
  };
  try {
    await write(iv);
    let lines = '';
    for await (const change of changes) {
      lines += `${JSON.stringify(change)}\n`;
      if (lines.length < WRITE_CHARACTERS) continue;
      await write(cipher.update(lines, 'utf8'));
      lines = '';
    }
    await write(cipher.update(lines, 'utf8'));
    await object.append([seal.digest()]);
    await object.finish();
  } finally {
    await object.abandon();
  }
}

/**
 * Reads what {@link writeChanges} wrote, after its seal: nothing of a damaged or cut object is ever given out.
 *
 * @throws {EngineError} `blob-missing`, `blob-damaged`
 */
export async function* readChanges(objects: ObjectStore, name: string, key: Buffer): AsyncGenerator<Change> {
  const object = await objects.open(name);
  if (!object)
    throw new EngineError(
      'blob-missing',
      `The change set ${name} is not there.`,
      'It may have been removed by retention.',
    );
  try {
    const end = object.size - SEAL_BYTES;
    if (!(await isWhole(object, key, end)))
      throw new EngineError(
        'blob-damaged',
        `The change set ${name} is damaged.`,
        'Restore the store from a backup; what the transfer wrote can still be seen in its record.',
      );
    const plain = createDecipheriv('aes-256-ctr', key, await object.read(0, IV_BYTES));
    const text = new StringDecoder('utf8');
    let rest = '';
    for await (const piece of object.stream(IV_BYTES, end)) {
      const lines = `${rest}${text.write(plain.update(piece))}`.split('\n');
      rest = lines.pop() as string;
      for (const line of lines) yield JSON.parse(line) as Change;
    }
  } finally {
    await object.close();
  }
}

/** @param end position of the seal */
async function isWhole(object: OpenObject, key: Buffer, end: number): Promise<boolean> {
  if (end < IV_BYTES) return false;
  const seal = sealFor(key, PURPOSE);
  for await (const piece of object.stream(0, end)) seal.update(piece);
  const stored = await object.read(end, SEAL_BYTES);
  return stored.length === SEAL_BYTES && timingSafeEqual(stored, seal.digest());
}
