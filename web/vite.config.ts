import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { assetsDir: "assets", chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8140", "/v1": "http://127.0.0.1:8140" } },
});
