import { fileURLToPath, URL } from 'node:url'
import { defineConfig } from 'vite'

/** The stand-alone viewer: one script without imports, which is put into an HTML file beside a model. */
export default defineConfig({
  build: {
    outDir: 'dist',
    emptyOutDir: false,
    copyPublicDir: false,
    lib: {
      entry: fileURLToPath(new URL('./src/viewer/main.ts', import.meta.url)),
      formats: ['iife'],
      name: 'VastQuarryViewer',
      fileName: () => 'viewer.js',
    },
  },
})
