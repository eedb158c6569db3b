<script setup lang="ts">
import { ref } from "vue";

const props = defineProps<{ value: string; label?: string; block?: boolean }>();
const done = ref(false);

async function copy() {
  await navigator.clipboard.writeText(props.value);
  done.value = true;
  setTimeout(() => (done.value = false), 1500);
}
</script>

<template>
  <span class="copy" :class="{ block }">
    <component :is="block ? 'pre' : 'span'" class="mono" :tabindex="block ? 0 : undefined">{{ value }}</component>
    <button type="button" :aria-label="`Copy ${label ?? 'the value'}`" @click="copy">
      {{ done ? "Copied" : "Copy" }}
    </button>
  </span>
</template>

<style scoped>
.copy {
  display: inline-flex;
  gap: 10px;
  align-items: baseline;
  max-width: 100%;
}
.copy.block {
  display: flex;
  align-items: flex-start;
}
pre {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  flex: 1;
  max-height: 260px;
  overflow: auto;
  background: var(--well);
  padding: 8px 12px;
  border-radius: 3px;
}
button {
  flex: none;
  font-size: 13px;
  color: var(--sea);
  background: none;
  border: 1px solid var(--rule);
  border-radius: 3px;
  padding: 1px 8px;
  cursor: pointer;
  min-height: 24px;
}
button:hover {
  background: var(--sea-tint);
}
</style>
