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
  test: {
    globals: true,
    // What is slow is measured elsewhere: a busy machine fails no test.
    testTimeout: 60_000,
    projects: [
      // Screens have a browser around them; rules alone need none.
      {
        extends: true,
        test: {
          name: "screens",
          include: ["src/**/*.test.tsx"],
          environment: "jsdom",
          setupFiles: "./src/test-setup.ts",
        },
      },
      { extends: true, test: { name: "rules", include: ["src/**/*.test.ts"], environment: "node" } },
    ],
  },
});
