<script setup lang="ts">
const places = [
  ["/people", "People"],
  ["/sessions", "Sessions"],
  ["/routes", "Routes"],
  ["/groups", "Groups"],
  ["/rule-sets", "Rule sets"],
  ["/people-settings", "Types, attributes, import"],
] as const;
</script>

<template>
  <nav class="sub-nav" aria-label="People and rules">
    <RouterLink v-for="[path, name] in places" :key="path" :to="path" :class="{ on: $route.path === path }">{{
      name
    }}</RouterLink>
  </nav>
</template>
