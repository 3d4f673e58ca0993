import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

/** The page for viewers and the player for other pages: a build of its own, with nothing of the console in it. */
export default defineConfig({
  root: "watch",
  base: "/watch-files/",
  publicDir: false,
  plugins: [tailwindcss()],
  build: {
    outDir: "../dist-watch",
    emptyOutDir: true,
    assetsDir: "",
    modulePreload: false,
    chunkSizeWarningLimit: 700,
    rollupOptions: { input: ["watch/index.html", "watch/embed.html", "watch/list.html"] },
  },
});
