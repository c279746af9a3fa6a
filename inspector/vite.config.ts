import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// Built into the package: the command line serves it. Addresses are relative, as it stands under a path that differs each time.
export default defineConfig({
  base: "./",
  plugins: [react()],
  worker: { format: "es" },
  build: {
    outDir: "../dist/inspector",
    emptyOutDir: true,
    modulePreload: { polyfill: false },
    chunkSizeWarningLimit: 900,
  },
});
