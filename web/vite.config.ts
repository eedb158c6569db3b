import { readFileSync } from "node:fs";
import vue from "@vitejs/plugin-vue";
import ElementPlus from "unplugin-element-plus/vite";
import { ElementPlusResolver } from "unplugin-vue-components/resolvers";
import Components from "unplugin-vue-components/vite";
import { defineConfig } from "vitest/config";

/** What of an object is its configuration: the fields that the API's description gives it, and nothing that is kept by hand. */
function configFields() {
  const name = "virtual:config-fields";
  const { components } = JSON.parse(readFileSync(new URL("openapi.json", import.meta.url), "utf8"));
  const fields = (schema: string) => JSON.stringify(Object.keys(components.schemas[schema].properties));
  return {
    name,
    resolveId: (id: string) => (id === name ? "\0" + name : null),
    load: (id: string) =>
      id === "\0" + name
        ? `export const applicationFields = ${fields("ConfigApplication")};\n` +
          `export const providerFields = ${fields("ConfigProvider")};\n`
        : null,
  };
}

export default defineConfig({
  base: "/console/",
  plugins: [
    vue(),
    configFields(),
    Components({ resolvers: [ElementPlusResolver()], dirs: [], dts: "src/components.d.ts" }),
    ElementPlus({}),
  ],
  build: { outDir: "dist", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8420" } },
  test: { environment: "happy-dom", server: { deps: { inline: ["element-plus"] } } },
});
