// Builds the console into dist/, and packs its assets for browsers that take them packed.
import locales from '@react-aria/optimize-locales-plugin';
import react from '@vitejs/plugin-react';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { brotliCompressSync, gzipSync } from 'node:zlib';
import { defineConfig, type Plugin } from 'vite';

function packed(): Plugin {
  return {
    name: 'packed',
    apply: 'build',
    closeBundle() {
      for (const name of readdirSync('dist/assets')) {
        if (!/\.(js|css|svg)$/.test(name)) continue;
        const raw = readFileSync(`dist/assets/${name}`);
        writeFileSync(`dist/assets/${name}.br`, brotliCompressSync(raw));
        writeFileSync(`dist/assets/${name}.gz`, gzipSync(raw, { level: 9 }));
      }
    },
  };
}

export default defineConfig({
  plugins: [locales.vite({ locales: ['en-US'] }), react(), packed()],
  build: {
    assetsInlineLimit: 0, // the policy lets nothing inline in
    emptyOutDir: false, // dist/.gitkeep stays; the build script empties dist/assets
    modulePreload: { polyfill: false },
    chunkSizeWarningLimit: 700, // kB; what counts is the first load, which a test measures
    rollupOptions: { output: { chunkFileNames: 'assets/[name]-[hash].js' } },
  },
  test: { environment: 'node', include: ['src/**/*.test.ts'] },
} as Parameters<typeof defineConfig>[0]);
