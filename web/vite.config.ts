import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { defineConfig, type Plugin } from "vite";

/** packed compresses what is built once, so that the service does not compress it for each that asks. */
const packed: Plugin = {
  name: "packed",
  apply: "build",
  closeBundle() {
    for (const name of readdirSync("dist/assets")) {
      const file = join("dist/assets", name);
      if (/\.(js|css|svg)$/.test(name)) writeFileSync(`${file}.gz`, gzipSync(readFileSync(file), { level: 9 }));
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), packed],
  base: "./", // the page says below which path it lies
  build: {
    assetsInlineLimit: 0, // the page may load from the service alone, and not from data in itself
    outDir: "dist",
    emptyOutDir: true,
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            { name: "react", test: /node_modules\/(react|react-dom|scheduler|react-router)\// },
            { name: "radix", test: /node_modules\/(@radix-ui|radix-ui|@floating-ui)\// },
            { name: "vendor", test: /node_modules\// },
          ],
        },
      },
    },
  },
  server: { proxy: { "/api": "http://127.0.0.1:7480" } },
});
