import { defineConfig } from "vitest/config";
import react from "@vitejs/plugin-react";

declare const process: { env: Record<string, string | undefined> };

const service = process.env["GRAPHODROME_URL"] ?? "http://127.0.0.1:8620";

export default defineConfig({
  plugins: [react()],
  build: { sourcemap: false, chunkSizeWarningLimit: 700 },
  test: { environment: "jsdom", setupFiles: ["tests/setup.ts"], include: ["tests/**/*.test.{ts,tsx}"] },
  worker: { format: "es" },
  // The service takes changes from its own pages alone.
  server: { proxy: { "/v1": { target: service, changeOrigin: true, headers: { origin: service } } } },
});
