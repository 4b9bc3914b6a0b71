import { defineConfig } from "vite";
import react from "@vitejs/plugin-react";

export default defineConfig({
  plugins: [react()],
  build: { sourcemap: false, chunkSizeWarningLimit: 700 },
  server: { proxy: { "/v1": "http://127.0.0.1:8620" } },
});
