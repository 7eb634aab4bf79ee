import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The built page goes into the Python package, which serves it. While developing, the API is that of a running service.
export default defineConfig({
  base: "./", // the service says in the page's <base> where it stands, below another path too
  plugins: [react(), tailwindcss()],
  build: { outDir: "../src/lamppost/console/dist", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1_000 },
  server: { proxy: { "/api": "http://127.0.0.1:8420", "/predict": "http://127.0.0.1:8420" } },
});
