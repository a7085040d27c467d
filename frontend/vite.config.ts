import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";

import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

const target = process.env.GRAYSHELF ?? "http://127.0.0.1:8418";

/** Scripts and styles lie packed beside themselves, so that nobody packs them at each request. Fonts are packed already. */
const packed: Plugin = {
  name: "packed",
  writeBundle(options, bundle) {
    for (const name of Object.keys(bundle)) {
      if (!/\.(js|css|svg)$/.test(name)) continue;
      const path = join(options.dir ?? ".", name);
      writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: 9 }));
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), packed],
  build: { outDir: "../src/grayshelf/web/static", emptyOutDir: true, chunkSizeWarningLimit: 900 },
  server: {
    proxy: {
      // The server answers its own pages only: while developing, this one passes for one of them.
      "/api": { target, changeOrigin: true, headers: { origin: target } },
    },
  },
});
