import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { target: "es2022", assetsInlineLimit: 0, chunkSizeWarningLimit: 600 },
  server: {
    fs: { allow: [".."] },
    proxy: { "/api": "http://127.0.0.1:8640", "/live": { target: "ws://127.0.0.1:8640", ws: true } },
  },
  // What is slow is measured elsewhere: a busy machine fails no test.
  test: { environment: "jsdom", globals: true, setupFiles: "./src/test-setup.ts", testTimeout: 60_000 },
});
