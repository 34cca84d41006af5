import react from '@vitejs/plugin-react';
import { readFile, readdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { brotliCompress, constants, gzip } from 'node:zlib';
import type { Plugin } from 'vite';
import { defineConfig } from 'vitest/config';

/** Files that are worth sending compressed; fonts are compressed by themselves. */
const compressible = /\.(js|css|svg)$/;

/** Puts a brotli and a gzip beside each file, so that the server never compresses the same twice. */
function compressed(): Plugin {
  return {
    name: 'compressed',
    apply: 'build',
    async writeBundle(options) {
      const dir = options.dir ?? 'dist';
      const names = (await readdir(dir, { recursive: true })).filter((n) => compressible.test(n));
      await Promise.all(
        names.map(async (name) => {
          const file = join(dir, name);
          const raw = await readFile(file);
          const br = await promisify(brotliCompress)(raw, {
            params: { [constants.BROTLI_PARAM_QUALITY]: 11, [constants.BROTLI_PARAM_SIZE_HINT]: raw.length },
          });
          await writeFile(`${file}.br`, br);
          await writeFile(`${file}.gz`, await promisify(gzip)(raw, { level: 9 }));
        }),
      );
    },
  };
}

export default defineConfig({
  plugins: [react(), compressed()],
  build: { chunkSizeWarningLimit: 1500, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
  test: {
    environment: 'jsdom',
    include: ['src/**/*.test.ts', 'src/**/*.test.tsx'],
    setupFiles: ['src/testing.setup.ts'],
    testTimeout: 30_000,
  },
});
