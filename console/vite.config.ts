import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// emptyOutDir also removes dist/.keep, which Go's embed needs in a fresh clone;
// public/.keep brings it back.
export default defineConfig({
  plugins: [react(), tailwind()],
  build: { outDir: "dist", emptyOutDir: true, assetsDir: "assets", assetsInlineLimit: 0 },
  server: { proxy: { "/api": "http://127.0.0.1:7640" } },
});
