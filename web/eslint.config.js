import pluginVue from "eslint-plugin-vue";
import { defineConfigWithVueTs, vueTsConfigs } from "@vue/eslint-config-typescript";
import prettier from "eslint-config-prettier";

export default defineConfigWithVueTs(
  { ignores: ["dist/**", "src/api/schema.ts", "src/components.d.ts"] },
  pluginVue.configs["flat/recommended"],
  vueTsConfigs.recommended,
  prettier,
  {
    rules: {
      "vue/multi-word-component-names": "off",
      "vue/require-default-prop": "off", // what may be left out is undefined, and its type says so
      "vue/no-unused-refs": "error",
      "vue/no-useless-v-bind": "error",
      "vue/prefer-true-attribute-shorthand": "error",
      "vue/component-name-in-template-casing": ["error", "PascalCase"],
      "vue/no-restricted-html-elements": ["error", "input", "select", "textarea", "table", "progress"],
      "no-restricted-globals": ["error", "confirm", "alert", "prompt"],
    },
  },
  { files: ["**/*.vue"], rules: { "max-lines": ["error", 250] } }, // one component, one purpose
);
