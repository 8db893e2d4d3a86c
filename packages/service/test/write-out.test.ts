import type { FastifyReply } from 'fastify';
import { describe, expect, it } from 'vitest';
import { writeOut } from '../src/http/write-out.js';

/** A reply that remembers what it is told to say. */
function headers(): { reply: FastifyReply; said: Map<string, string> } {
  const said = new Map<string, string>();
  const header = (name: string, value: string) => {
    said.set(name, value);
    return reply;
  };
  const reply = { header, type: (type: string) => header('type', type) } as unknown as FastifyReply;
  return { reply, said };
}

const THINGS = ['one', 'two, or "three"', '=1+1', '@cmd', 'a\nb', ''].map((name, i) => ({ name, i }));
const COLUMNS = { i: (one: { i: number }) => one.i, name: (one: { name: string }) => one.name };

/** Pages of two; notes which were asked for. */
const pages = (asked: (string | undefined)[]) => async (cursor: string | undefined) => {
  asked.push(cursor);
  const at = Number(cursor ?? 0);
  return { items: THINGS.slice(at, at + 2), next: at + 2 < THINGS.length ? String(at + 2) : null };
};

describe('a list that is written out', () => {
  it('is JSON Lines, page after page, none asked for before the one before it was taken', async () => {
    const asked: (string | undefined)[] = [];
    const { reply, said } = headers();
    const pieces = writeOut(reply, 'things', 'jsonl', COLUMNS, pages(asked))[Symbol.asyncIterator]();
    expect(asked).toEqual([]);
    expect((await pieces.next()).value).toBe('{"name":"one","i":0}\n{"name":"two, or \\"three\\"","i":1}\n');
    expect(asked).toEqual([undefined]);
    let rest = '';
    for (let piece = await pieces.next(); !piece.done; piece = await pieces.next()) rest += piece.value;
    expect(
      rest
        .trim()
        .split('\n')
        .map((line) => JSON.parse(line)),
    ).toEqual(THINGS.slice(2));
    expect(asked).toEqual([undefined, '2', '4']);
    expect(said.get('content-disposition')).toBe('attachment; filename="things.jsonl"');
    expect(said.get('type')).toContain('application/jsonl');
  });

  it('is CSV with a head, in which nothing is taken for a formula', async () => {
    const { reply, said } = headers();
    let text = '';
    for await (const piece of writeOut(reply, 'things', 'csv', COLUMNS, pages([]))) text += piece;
    expect(text).toBe('i,name\r\n0,one\r\n1,"two, or ""three"""\r\n2,\'=1+1\r\n3,\'@cmd\r\n4,"a\nb"\r\n5,\r\n');
    expect(said.get('type')).toBe('text/csv; charset=utf-8; header=present');
  });

  it('ends where reading fails, and says so', async () => {
    const { reply } = headers();
    const broken = async (cursor: string | undefined) => {
      if (cursor !== undefined) throw new Error('the records are gone');
      return { items: THINGS, next: '6' };
    };
    const pieces = writeOut(reply, 'things', 'jsonl', COLUMNS, broken)[Symbol.asyncIterator]();
    await pieces.next();
    await expect(pieces.next()).rejects.toThrow('the records are gone');
  });
});
