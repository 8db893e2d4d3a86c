import { type IncomingMessage, request } from 'node:http';
import { type Answer, asSentBack, type Question, type Send } from './send.js';

/**
 * Asks by Node's own HTTP client: a program that asks a single question is done with it before `fetch` has read its modules.
 * Unlike `fetch` it does not follow where it is sent elsewhere.
 */
export const sendByNode: Send = async (url, question) => {
  const begin = url.startsWith('https:') ? (await import('node:https')).request : request;
  return new Promise((resolve, reject) => {
    const call = begin(url, options(question), (incoming) => resolve(answerOf(incoming)));
    call.once('error', reject);
    call.end(question.body);
  });
};

const options = ({ method, headers, body, signal }: Question) => ({
  method,
  headers: { ...headers, ...(body === undefined ? {} : { 'content-length': Buffer.byteLength(body) }) },
  ...(signal ? { signal } : {}),
});

function answerOf(incoming: IncomingMessage): Answer {
  const status = incoming.statusCode ?? 0;
  const pieces = (): AsyncIterable<string> => incoming.setEncoding('utf8');
  return {
    ok: status >= 200 && status < 300,
    status,
    cookies: (incoming.headers['set-cookie'] ?? []).map(asSentBack),
    pieces,
    async text() {
      let text = '';
      for await (const piece of pieces()) text += piece;
      return text;
    },
  };
}
