import { createCipheriv, createDecipheriv, randomBytes, timingSafeEqual } from 'node:crypto';
import * as fs from 'node:fs/promises';
import { basename, dirname } from 'node:path';
import { StringDecoder } from 'node:string_decoder';
import type { Change } from '@tessarion/core';
import { EngineError, fileError, messageOf } from '../ports/errors.js';
import { IV_BYTES, SEAL_BYTES, sealFor } from './sealed.js';

const WRITE_CHARACTERS = 1 << 20;
const READING = { autoClose: false, highWaterMark: 1 << 20 };
const PURPOSE = 'changes';

/**
 * Writes changes one a line, encrypted and sealed (format in docs/formats.md), on the disk before the file appears
 * under its name.
 *
 * @param key 32 bytes
 */
export async function writeChangeFile(
  path: string,
  key: Buffer,
  changes: AsyncIterable<Change> | Iterable<Change>,
): Promise<void> {
  const iv = randomBytes(IV_BYTES);
  const cipher = createCipheriv('aes-256-ctr', key, iv);
  const seal = sealFor(key, PURPOSE);
  try {
    await fs.mkdir(dirname(path), { recursive: true, mode: 0o700 });
    const file = await fs.open(`${path}.new`, 'w', 0o600);
    const write = async (piece: Buffer): Promise<void> => {
      seal.update(piece);
      await file.writeFile(piece);
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
      await file.writeFile(seal.digest());
      await file.datasync();
    } finally {
      await file.close();
    }
    await fs.rename(`${path}.new`, path);
  } catch (error) {
    throw fileError(error, path);
  }
}

/**
 * Reads what {@link writeChangeFile} wrote, after its seal: nothing of a damaged or cut file is ever given out.
 *
 * @throws {EngineError} `blob-missing`, `blob-damaged`
 */
export async function* readChangeFile(path: string, key: Buffer): AsyncGenerator<Change> {
  const name = basename(path);
  const file = await fs.open(path).catch((error: unknown) => {
    throw new EngineError(
      'blob-missing',
      `The change set ${name} cannot be read: ${messageOf(error)}`,
      'It may have been removed by retention.',
      { cause: error },
    );
  });
  try {
    const end = (await file.stat()).size - SEAL_BYTES - 1;
    if (!(await isWhole(file, key, end)))
      throw new EngineError(
        'blob-damaged',
        `The change set ${name} is damaged.`,
        'Restore the store from a backup; what the transfer wrote can still be seen in its record.',
      );
    if (end < IV_BYTES) return;
    const iv = Buffer.alloc(IV_BYTES);
    await file.read(iv, 0, IV_BYTES, 0);
    const plain = createDecipheriv('aes-256-ctr', key, iv);
    const text = new StringDecoder('utf8');
    let rest = '';
    for await (const piece of file.createReadStream({ start: IV_BYTES, end, ...READING })) {
      const lines = `${rest}${text.write(plain.update(piece as Buffer))}`.split('\n');
      rest = lines.pop() as string;
      for (const line of lines) yield JSON.parse(line) as Change;
    }
  } finally {
    await file.close();
  }
}

/** @param end position of the last byte before the seal */
async function isWhole(file: fs.FileHandle, key: Buffer, end: number): Promise<boolean> {
  if (end < IV_BYTES - 1) return false;
  const seal = sealFor(key, PURPOSE);
  for await (const piece of file.createReadStream({ start: 0, end, ...READING })) seal.update(piece as Buffer);
  const stored = Buffer.alloc(SEAL_BYTES);
  await file.read(stored, 0, SEAL_BYTES, end + 1);
  return timingSafeEqual(stored, seal.digest());
}
