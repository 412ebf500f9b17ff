import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

// During development the pages come from here and the API from a running service.
const service = "http://127.0.0.1:8740";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  server: { proxy: { "/api": service, "/tus": service } },
  // Nothing is written into pages as data: their content policy takes files of this service alone.
  build: { outDir: "dist", emptyOutDir: true, assetsInlineLimit: 0 },
  // A test that goes through thousands of cases takes as long as the machine takes, whatever else that does.
  test: { testTimeout: 300_000 },
});
