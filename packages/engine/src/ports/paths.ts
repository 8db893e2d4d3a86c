import type { ByteString } from '@tessarion/core';

/** The text of a byte path as people write it; bytes that are not UTF-8 show as U+FFFD. */
export const showPath = (path: ByteString): string => Buffer.from(path, 'latin1').toString('utf8');

/** The folder that a path lies in. */
export const folderOf = (path: ByteString): ByteString => path.slice(0, path.lastIndexOf('/')) || '/';
