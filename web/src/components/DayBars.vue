<script setup lang="ts">
import { computed } from "vue";

/** Refused sign-ins by day, a bar each, so small that no chart has to be loaded for it. */
const props = defineProps<{ days: { at: string; refused: number; signedIn: number }[] }>();
const most = computed(() => Math.max(1, ...props.days.map((d) => d.refused)));
const bars = computed(() =>
  props.days.map((d, i) => ({
    x: i * 12,
    height: Math.max(d.refused ? 2 : 0, (d.refused / most.value) * 40),
    text: `${new Date(d.at).toLocaleDateString([], { month: "short", day: "numeric" })}: ${d.refused} refused`,
  })),
);
</script>

<template>
  <svg
    :viewBox="`0 0 ${days.length * 12} 42`"
    role="img"
    :aria-label="`Refused by day: ${bars.map((b) => b.text).join(', ')}`"
  >
    <g v-for="b in bars" :key="b.x">
      <title>{{ b.text }}</title>
      <rect :x="b.x" y="41" width="9" height="1" class="ground" />
      <rect :x="b.x" :y="41 - b.height" width="9" :height="b.height" class="bar" />
    </g>
  </svg>
</template>

<style scoped>
svg {
  height: 42px;
  max-width: 100%;
}
.bar {
  fill: var(--rust-line);
}
.ground {
  fill: var(--rule);
}
</style>
