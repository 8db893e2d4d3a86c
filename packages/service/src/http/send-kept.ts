import { createHash } from 'node:crypto';
import { promisify } from 'node:util';
import { gzip } from 'node:zlib';
import type { FastifyReply, FastifyRequest } from 'fastify';

const pack = promisify(gzip);
/** Shorter ones are not smaller by much. */
const LONG = 1000;

/**
 * Sends an answer that who asked may keep, or says that what they kept is still it (RFC 9110, 13.1.2). Its entity tag is
 * weak: it is one for the answer and for its smaller form.
 */
export async function sendKept(request: FastifyRequest, reply: FastifyReply, answer: unknown): Promise<FastifyReply> {
  const text = JSON.stringify(answer);
  const etag = `W/"${createHash('sha256').update(text).digest('base64url').slice(0, 22)}"`;
  reply.header('etag', etag).header('cache-control', 'private, no-cache').header('vary', 'accept-encoding, cookie');
  const known = request.headers['if-none-match']?.split(/\s*,\s*/) ?? [];
  if (known.includes(etag)) return reply.status(304).send();
  reply.type('application/json; charset=utf-8');
  const takesGzip = /(^|,)\s*gzip\s*(?!;\s*q=0(\.0*)?\s*(,|$))/.test(request.headers['accept-encoding'] ?? '');
  if (!takesGzip || text.length < LONG) return reply.send(text);
  return reply.header('content-encoding', 'gzip').send(await pack(text, { level: 5 }));
}
