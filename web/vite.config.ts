import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: "dist/app",
    assetsInlineLimit: 0, // the content security policy lets nothing in that is written into the page
  },
  server: { proxy: { "/v1": "http://127.0.0.1:2247", "/enter": "http://127.0.0.1:2247" } },
});
