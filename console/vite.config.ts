import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The build goes beside the Go package that embeds it. Nothing is inlined as data: or script, so that the page's
// content security policy needs no exception.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: "../internal/web/dist", emptyOutDir: true, assetsInlineLimit: 0, modulePreload: { polyfill: false } },
  server: { proxy: { "/api": "http://127.0.0.1:8267" } },
});
