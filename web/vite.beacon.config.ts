import { defineConfig } from "vite";

/** The script that sites have in their pages: one file without imports. */
export default defineConfig({
  publicDir: false,
  build: {
    outDir: "dist",
    emptyOutDir: false,
    lib: { entry: "beacon/beacon.ts", formats: ["iife"], name: "tideMarker", fileName: () => "beacon.js" },
  },
});
