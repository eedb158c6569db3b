<script setup lang="ts">
const places = [["/people", "People"], ["/groups", "Groups"], ["/rule-sets", "Rule sets"], ["/people-settings", "Types, attributes, import"]] as const;
</script>

<template>
  <nav class="sub-nav" aria-label="People and rules"><RouterLink v-for="[path, name] in places" :key="path" :to="path" :class="{ on: $route.path === path }">{{ name }}</RouterLink></nav>
</template>

<style scoped>
.sub-nav { display: flex; gap: 20px; border-bottom: 1px solid var(--rule); margin-bottom: 14px; flex-wrap: wrap; }
.sub-nav a { text-decoration: none; padding: 6px 0; color: var(--soft); border-bottom: 3px solid transparent; }
.sub-nav a.on { color: var(--ink); font-weight: 700; border-color: var(--brass-line); }
</style>
