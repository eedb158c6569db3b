<script setup lang="ts">
defineProps<{ side?: "applications" | "providers" }>();
</script>

<template>
  <nav class="sub-nav" aria-label="Applications and providers">
    <RouterLink
      :to="`/${side ?? 'applications'}`"
      :class="{ on: ['/applications', '/providers'].includes($route.path) }"
      >One by one</RouterLink
    >
    <RouterLink to="/batches" :class="{ on: $route.path.startsWith('/batches') }">Many at once</RouterLink>
    <RouterLink to="/moves" :class="{ on: $route.path.startsWith('/moves') }">Moves</RouterLink>
    <RouterLink
      :to="{ path: '/report', query: side === 'providers' ? { side: 'provider' } : {} }"
      :class="{ on: $route.path === '/report' }"
      >Report</RouterLink
    >
  </nav>
</template>
