import { StreamEvent } from '@tessarion/contract';
import { createParser } from 'eventsource-parser';
import { type Client, ServiceUnreachable } from './client.js';

const RETRY_MILLISECONDS = 500;
const MAX_RETRIES = 20;

/**
 * Follows the event stream, resuming where it broke off. Ends when the signal is aborted.
 *
 * @throws {ServiceUnreachable} when the stream cannot be had again within about ten seconds
 */
export async function* followEvents(client: Client, signal: AbortSignal): AsyncGenerator<StreamEvent> {
  let last = '';
  for (let failures = 0; !signal.aborted; ) {
    try {
      const answer = await client.events(last, signal);
      if (!answer.ok) throw new Error(`The event stream answered ${answer.status}.`);
      failures = 0;
      const waiting: StreamEvent[] = [];
      const parser = createParser({
        onEvent: (event) => {
          if (event.id !== undefined) last = event.id;
          const parsed = StreamEvent.safeParse(JSON.parse(event.data));
          if (parsed.success) waiting.push(parsed.data);
        },
      });
      for await (const piece of answer.pieces()) {
        parser.feed(piece);
        yield* waiting.splice(0);
      }
    } catch (error) {
      if (signal.aborted) return;
      if (++failures > MAX_RETRIES)
        throw new ServiceUnreachable('The event stream cannot be reached any more.', { cause: error });
    }
    await new Promise((resolve) => setTimeout(resolve, RETRY_MILLISECONDS));
  }
}
