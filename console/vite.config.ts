import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// During development the pages come from here and the API from a running service.
const service = "http://127.0.0.1:8740";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  server: { proxy: { "/api": service, "/tus": service } },
  build: { outDir: "dist", emptyOutDir: true },
});
