<script setup lang="ts">
import { useSession } from "../composables/session";

const session = useSession();
const places = [
  ["/settings", "Administrators and tokens"],
  ["/nodes", "Nodes"],
  ["/copies", "Copies"],
] as const;
</script>

<template>
  <nav class="sub-nav" aria-label="Access, nodes and copies">
    <RouterLink
      v-for="[path, name] in session.owner ? places : places.slice(1, 2)"
      :key="path"
      :to="path"
      :class="{ on: $route.path === path }"
      >{{ name }}</RouterLink
    >
  </nav>
</template>
