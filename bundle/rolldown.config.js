import { dirname, relative, resolve } from 'node:path';
import { defineConfig } from 'rolldown';

const FOLDER = 'programs';

/** What runs as a process or thread of its own. */
const PROGRAMS = {
  tessarion: 'packages/cli/dist/main.js',
  worker: 'packages/service/dist/main/worker-main.js',
  gateway: 'packages/service/dist/gateway/main.js',
  'gateway-server': 'packages/service/dist/gateway/serve-main.js',
  'verify-thread': 'packages/service/dist/journal/verify-thread.js',
  'file-lane-thread': 'packages/engine/dist/copy/file-lane-thread.js',
  demo: 'packages/demo/dist/main.js',
};

/** Drivers of databases that the records are never kept in. */
const FOREIGN = /^(mysql2?|oracledb|sqlite3|better-sqlite3|tedious|mariadb\/callback|pg-query-stream)$/;
/** Compiled parts, which their modules do without. */
const COMPILED = /^(pg-native|cpu-features|\..*\.node)$/;

/** What a module names beside itself, as `new URL('…', import.meta.url)`, is found from the bundle's folder. */
const besideItself = {
  name: 'beside-itself',
  transform: {
    filter: { id: /\/packages\/[^/]+\/dist\//, code: 'import.meta.url' },
    handler(code, id) {
      return code.replace(/new URL\('(\.[^']+)', import\.meta\.url\)/g, (_all, path) => {
        const target = resolve(dirname(id), path);
        const [program] = Object.entries(PROGRAMS).find(([, file]) => resolve(file) === target) ?? [];
        if (!program && target.endsWith('.js')) this.error(`${path} is no program of this bundle`);
        return `new URL('${program ? `./${program}.cjs` : relative(FOLDER, target)}', import.meta.url)`;
      });
    },
  },
};

/**
 * Programs as they run: one small file each, and a few that they share, so that a start reads few files. Those that are shared
 * carry the hash of their content in their names, by which `keep-compiled.cjs` knows its own.
 */
export default defineConfig({
  input: PROGRAMS,
  platform: 'node',
  external: (id, importer = '') => (/[/]knex[/]/.test(importer) && FOREIGN.test(id)) || COMPILED.test(id),
  plugins: [besideItself],
  logLevel: 'warn',
  output: {
    dir: FOLDER,
    cleanDir: true,
    format: 'cjs',
    entryFileNames: '[name].cjs',
    chunkFileNames: '[name]-[hash].cjs',
    banner: (chunk) => (chunk.isEntry ? "require('../bundle/use-compiled.cjs');" : ''),
  },
});
