<script setup lang="ts">
import type { ConnectStep } from "../composables/connecting";

// The steps of connecting at a glance, and the way to each.
defineProps<{ steps: ConnectStep[]; next?: ConnectStep }>();
const emit = defineEmits<{ go: [id: string] }>();
</script>

<template>
  <nav class="steps" aria-label="Steps">
    <a
      v-for="s in steps"
      :key="s.id"
      :href="`#${s.id}`"
      :class="{ done: s.done, next: s === next }"
      @click.prevent="emit('go', s.id)"
      ><b
        ><span aria-hidden="true">{{ s.done ? "✓" : "○" }}</span> {{ s.title }}</b
      ><span>{{ s.text }}</span></a
    >
  </nav>
</template>

<style scoped>
.steps {
  display: grid;
  grid-template-columns: repeat(6, minmax(0, 1fr));
  border: 1px solid var(--rule);
  border-radius: 4px;
  background: var(--card);
}
.steps a {
  padding: 10px 14px;
  text-decoration: none;
  color: var(--ink);
  border-right: 1px solid var(--hair);
  font-size: 14px;
}
.steps a:last-child {
  border: 0;
}
.steps span {
  display: block;
  color: var(--soft);
  font-size: 13px;
}
.steps b span {
  display: inline;
  color: inherit;
}
.steps .done b {
  color: var(--moss);
}
.steps .next {
  box-shadow: inset 0 -3px 0 var(--brass-line);
}
@media (max-width: 900px) {
  .steps {
    grid-template-columns: repeat(3, 1fr);
  }
}
</style>
