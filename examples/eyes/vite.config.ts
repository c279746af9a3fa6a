import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The page's policy allows no inline script or style, as a strict application's would.
export default defineConfig({
  base: "./",
  plugins: [react()],
  build: {
    outDir: "dist",
    modulePreload: { polyfill: false },
    // React, the library, a YAML reader and the museum's data: one file, loaded from the same machine.
    chunkSizeWarningLimit: 800,
  },
});
