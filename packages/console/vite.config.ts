import { readdir, readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { brotliCompress, constants, gzip } from 'node:zlib';
import tailwindcss from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig, type Plugin } from 'vite';

/** Writes what is sent as text in smaller forms beside it, once, so that nothing is compressed when it is asked for. */
const compressed = (): Plugin => ({
  name: 'compressed',
  apply: 'build',
  async writeBundle({ dir = 'dist' }) {
    const names = await readdir(dir, { recursive: true });
    const texts = names.filter((name) => /\.(js|css|svg|html)$/.test(name));
    await Promise.all(
      texts.map(async (name) => {
        const path = join(dir, name);
        const content = await readFile(path);
        const small = { [constants.BROTLI_PARAM_SIZE_HINT]: content.length };
        await writeFile(`${path}.br`, await promisify(brotliCompress)(content, { params: small }));
        await writeFile(`${path}.gz`, await promisify(gzip)(content, { level: 9 }));
      }),
    );
  },
});

export default defineConfig({
  plugins: [react(), tailwindcss(), compressed()],
  build: { target: 'es2022', sourcemap: false, chunkSizeWarningLimit: 800 },
});
