import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  // The page says where it lies; see the service's `console_path`.
  base: "./",
  plugins: [react(), tailwindcss()],
  server: { proxy: { "/api": "http://127.0.0.1:7800" } },
  test: { environment: "jsdom", include: ["src/**/*.test.{ts,tsx}", "watch/**/*.test.ts"] },
});
