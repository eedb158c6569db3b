import vue from "@vitejs/plugin-vue";
import ElementPlus from "unplugin-element-plus/vite";
import { ElementPlusResolver } from "unplugin-vue-components/resolvers";
import Components from "unplugin-vue-components/vite";
import { defineConfig } from "vitest/config";

export default defineConfig({
  base: "/console/",
  plugins: [
    vue(),
    Components({ resolvers: [ElementPlusResolver()], dirs: [], dts: "src/components.d.ts" }),
    ElementPlus({}),
  ],
  build: { outDir: "dist", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8420" } },
  test: { environment: "happy-dom", server: { deps: { inline: ["element-plus"] } } },
});
