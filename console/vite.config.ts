import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [tailwindcss()],
  esbuild: { jsx: "automatic" },
  build: {
    // Fonts stay files of their own: the content security policy allows nothing inline.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
  server: { proxy: { "/v1": "http://127.0.0.1:7411", "/manage": "http://127.0.0.1:7411" } },
});
