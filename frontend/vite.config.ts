import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

const target = process.env.GRAYSHELF ?? "http://127.0.0.1:8418";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: "../src/grayshelf/web/static", emptyOutDir: true, chunkSizeWarningLimit: 900 },
  server: {
    proxy: {
      // The server answers its own pages only: while developing, this one passes for one of them.
      "/api": { target, changeOrigin: true, headers: { origin: target } },
    },
  },
});
