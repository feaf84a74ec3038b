import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 700, sourcemap: false },
  server: { proxy: { '/api': 'http://127.0.0.1:7373' } },
});
