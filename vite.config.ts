import { fileURLToPath } from 'node:url';
import tailwindcss from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  root: fileURLToPath(new URL('./console', import.meta.url)),
  plugins: [react(), tailwindcss()],
  build: { outDir: fileURLToPath(new URL('./dist/console', import.meta.url)), emptyOutDir: true, chunkSizeWarningLimit: 1200 },
});
