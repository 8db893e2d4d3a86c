import { createHmac, randomBytes } from 'node:crypto';
import { type RequestOptions, request } from 'node:http';
import { request as requestSecurely } from 'node:https';

/** Where a gateway says that it is this one; on live, where nothing else of it can be asked for, as well. */
const PATH = '/.tessarion/here/';
/** What asks is random, so that no answer can be kept and given later. */
const QUESTION = /^[\da-f]{32}$/;
const PATIENCE_MS = 3000;

const answerTo = (question: string, key: Buffer): string =>
  createHmac('sha256', key).update(`here ${question}`).digest('hex');

/** What a gateway answers a request for a path; undefined where it is no such question. */
export function answerHere(path: string, key: Buffer): string | undefined {
  const question = path.startsWith(PATH) ? path.slice(PATH.length) : '';
  return QUESTION.test(question) ? answerTo(question, key) : undefined;
}

/**
 * Finds out whether who calls an address comes through this installation's gateway, by calling it.
 *
 * @param url the address as visitors use it
 * @param key the gateway's
 * @returns undefined where the address does not answer
 */
export function leadsHere(url: string, key: Buffer): Promise<boolean | undefined> {
  const { protocol, hostname, port, host } = new URL(url);
  const question = randomBytes(16).toString('hex');
  const options: RequestOptions = {
    // Names below localhost are this machine (RFC 6761, 6.3), which not every resolver knows.
    host: hostname.endsWith('.localhost') ? '127.0.0.1' : hostname,
    path: `${PATH}${question}`,
    headers: { host },
    timeout: PATIENCE_MS,
    ...(port === '' ? {} : { port }),
    // Whoever answers must know the key: the certificate proves nothing more, and may be a front's own.
    ...(protocol === 'https:' ? { servername: hostname, rejectUnauthorized: false } : {}),
  };
  const expected = answerTo(question, key);
  return new Promise((resolve) => {
    const call = (protocol === 'https:' ? requestSecurely : request)(options, (response) => {
      let text = '';
      response.setEncoding('utf8');
      response.on('data', (piece: string) => {
        text += piece;
        if (text.length > 2 * expected.length) response.destroy();
      });
      response.on('close', () => resolve(text.trim() === expected));
    });
    // Also where it goes on answering.
    const late = setTimeout(() => call.destroy(new Error('no answer')), PATIENCE_MS);
    call.on('close', () => clearTimeout(late));
    call.on('timeout', () => call.destroy(new Error('no answer')));
    call.on('error', () => resolve(undefined));
    call.end();
  });
}
