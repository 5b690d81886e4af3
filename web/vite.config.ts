import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The service to develop against: a running demo.
const service = "http://127.0.0.1:8460";

export default defineConfig({
	plugins: [react(), tailwindcss()],
	build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
	server: { proxy: { "/api": { target: service, ws: true } } },
});
