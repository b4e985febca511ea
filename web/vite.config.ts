import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
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
