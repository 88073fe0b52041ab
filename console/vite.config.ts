import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  // The service replaces this by a fresh nonce in every response.
  html: { cspNonce: 'ITINERA-NONCE' },
  build: { chunkSizeWarningLimit: 1500, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:7480' } },
});
