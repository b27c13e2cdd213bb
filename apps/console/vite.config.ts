import { defineConfig } from 'vite';

// During work on the page, /api is answered by a service that runs: zunth demo.
export default defineConfig({
  esbuild: { jsx: 'automatic' },
  build: {
    target: 'es2022',
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 900,
    reportCompressedSize: false,
    rollupOptions: {
      // A component library marks its files for servers that render; there is none here.
      onwarn: (warning, warn) => warning.code !== 'MODULE_LEVEL_DIRECTIVE' && warn(warning),
    },
  },
  server: { proxy: { '/api': { target: 'http://127.0.0.1:8046', ws: true } } },
});
