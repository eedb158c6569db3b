<script setup lang="ts">
const places = [
  ["/traces", "Traces"],
  ["/statistics", "Over time"],
  ["/judge", "Judge a message"],
] as const;
</script>

<template>
  <nav class="sub-nav" aria-label="Traces">
    <RouterLink v-for="[path, name] in places" :key="path" :to="path" :class="{ on: $route.path === path }">{{
      name
    }}</RouterLink>
  </nav>
</template>
