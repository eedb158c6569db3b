<script setup lang="ts">
const places = [
  ["/history", "History"],
  ["/proposals", "Proposed"],
  ["/files", "Files"],
  ["/journal", "Journal"],
] as const;
</script>

<template>
  <nav class="sub-nav" aria-label="Changes">
    <RouterLink v-for="[path, name] in places" :key="path" :to="path" :class="{ on: $route.path.startsWith(path) }">{{
      name
    }}</RouterLink>
  </nav>
</template>
