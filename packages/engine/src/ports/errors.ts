/** Everything the engine can fail with: a stable code, a plain message, and what to do next. */
export class EngineError extends Error {
  override readonly name = 'EngineError';

  constructor(
    readonly code: EngineErrorCode,
    message: string,
    readonly next: string,
    options?: ErrorOptions,
  ) {
    super(message, options);
  }
}

/** What kind of thing went wrong outside; tells callers what to do, and people where to look. */
export type EngineErrorCode =
  | 'server-unreachable'
  | 'file-unreadable'
  | 'file-refused'
  | 'file-changed'
  | 'file-gone'
  | 'disk-full'
  | 'database-unreachable'
  | 'database-refused'
  | 'schema-unsupported'
  | 'value-too-long'
  | 'value-refused'
  | 'command-failed'
  | 'blob-missing'
  | 'blob-damaged'
  | 'outdated'
  | 'trace-found'
  | 'fence-lost'
  | 'stopped';

/** The message of anything that was thrown. */
export const messageOf = (error: unknown): string => (error instanceof Error ? error.message : String(error));

/** Says that somebody wrote to a file while it was read. */
export const fileChanged = (path: string): EngineError =>
  new EngineError(
    'file-changed',
    `${path} is written to all the time, so that it cannot be read as it is at one moment.`,
    'Run it again when it is at rest, or put it into an area of class "local" or "derived".',
  );

/** The same as {@link fileError} for reading, where a file that is gone is told apart. */
export function readError(error: unknown, path: string): EngineError {
  if ((error as NodeJS.ErrnoException).code !== 'ENOENT') return fileError(error, path);
  return new EngineError('file-gone', `${path} is not there any more.`, 'Run it again.', { cause: error });
}

/** Turns an operating-system error about a path into one with a plain reason. */
export function fileError(error: unknown, path: string): EngineError {
  const code = (error as NodeJS.ErrnoException).code;
  if (error instanceof EngineError) return error;
  if (code === 'ENOSPC' || code === 'EDQUOT')
    return new EngineError(
      'disk-full',
      `No room left while writing ${path}.`,
      'Free some space on the server and run it again.',
      { cause: error },
    );
  if (code === 'EACCES' || code === 'EPERM')
    return new EngineError(
      'file-unreadable',
      `${path} cannot be opened: permission denied.`,
      'Give the login that Tessarion uses read access, or leave the path out.',
      { cause: error },
    );
  if (code === 'EROFS')
    return new EngineError(
      'file-unreadable',
      `${path} lies on a file system that is read-only.`,
      'Have it mounted for writing, then run it again; a file system that turned read-only by itself may be damaged.',
      { cause: error },
    );
  if (code === 'ENOTDIR')
    return new EngineError(
      'file-unreadable',
      `${path} is not a folder, or something on the way to it is not.`,
      'Put back the folder that was there, and run it again.',
      { cause: error },
    );
  return new EngineError(
    'file-unreadable',
    `${path}: ${messageOf(error)}`,
    'Look at the path on the server and run it again.',
    { cause: error },
  );
}
