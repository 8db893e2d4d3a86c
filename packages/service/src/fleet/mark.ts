import type { DataFolder } from '../ground/data-folder.js';
/** By what this installation knows its own databases and folders among those of others on the same server. */
export const markOf = ({ keys }: DataFolder): string => `Tessarion ${keys.derive('mark').toString('hex').slice(0, 16)}`;
