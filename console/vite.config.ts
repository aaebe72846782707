import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// Built into the Python package, so that the wheel carries the console.
export default defineConfig({
  plugins: [react()],
  // Found from <base>, wherever the service lies.
  base: "./",
  build: { outDir: "../src/reedbasket/service/static", emptyOutDir: true, chunkSizeWarningLimit: 1200 },
});
