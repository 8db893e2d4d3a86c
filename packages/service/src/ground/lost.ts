import { messageOf } from '@tessarion/engine';

/** Refusals of a server that starts or ends, and what a network says (PostgreSQL, appendix A; errno). */
const LOST: ReadonlySet<string> = new Set([
  ...['57P01', '57P02', '57P03', '08000', '08003', '08006'],
  ...['ECONNREFUSED', 'ETIMEDOUT', 'ECONNRESET', 'EPIPE'],
]);

/** Whether an error says that the records, or the gateway, cannot be reached, or not any longer. */
export const isConnectionLost = (error: unknown): boolean => {
  const { code, syscall } = error as NodeJS.ErrnoException;
  // A socket that is not there, rather than a file.
  if (LOST.has(code ?? '') || (code === 'ENOENT' && syscall === 'connect')) return true;
  return /Connection terminated|connection error and is not queryable|timeout expired/.test(messageOf(error));
};
