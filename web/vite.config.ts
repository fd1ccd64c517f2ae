import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The gallery shows the shared components in all their states; it is built for the tests alone.
export default defineConfig(({ mode }) => ({
  plugins: [react()],
  build:
    mode === "gallery"
      ? { outDir: "../console/gallery", emptyOutDir: true, rolldownOptions: { input: "gallery.html" } }
      : { outDir: "../console/dist", emptyOutDir: true },
}));
