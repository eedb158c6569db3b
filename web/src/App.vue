<script setup lang="ts">
import { ElConfigProvider } from "element-plus";
import { useSession } from "./composables/session";
import AppHeader from "./components/AppHeader.vue";

const session = useSession();
</script>

<template>
  <ElConfigProvider :message="{ grouping: true }" :empty-values="[null, undefined]">
    <a class="skip" href="#content">Skip to the content</a>
    <AppHeader v-if="session.me" />
    <main id="content" tabindex="-1"><RouterView :key="$route.path" /></main>
  </ElConfigProvider>
</template>

<style scoped>
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  z-index: 20;
  background: var(--card);
  padding: 8px 14px;
}
main:focus {
  outline: none;
}
</style>
