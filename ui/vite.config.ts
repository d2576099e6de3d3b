import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    target: "es2022",
    sourcemap: false,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 2000,
    outDir: "../src/greyheron/workbench",
    emptyOutDir: true,
  },
  test: { include: ["tests/**/*.test.{ts,tsx}"] },
  server: { proxy: { "/api": "http://127.0.0.1:8470" } },
});
