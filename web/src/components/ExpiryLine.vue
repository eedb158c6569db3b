<script setup lang="ts">
import { computed } from "vue";
import { relative } from "../composables/text";

// Bars that run from now to the end of each certificate, the one that ends first on top.
// What ends within 60 days stands out by its word as well as its colour.
const props = defineProps<{ items: { name: string; hint?: string; at: string }[] }>();
const months = 24;
const now = Date.now();
const span = months * 30.44 * 86400e3;
const left = 250;
const width = 620;
const rows = computed(() =>
  props.items.map((i) => {
    const end = new Date(i.at).getTime();
    const days = (end - now) / 86400e3;
    return {
      ...i,
      x: Math.max(0, Math.min(1, (end - now) / span)) * width,
      beyond: end - now > span,
      state: days <= 0 ? "over" : days <= 30 ? "soon" : days <= 60 ? "near" : "far",
      text: relative(new Date(i.at)),
    };
  }),
);
const marks = [0, 6, 12, 18, 24];
const short = (s: string) => (s.length > 34 ? `${s.slice(0, 33)}…` : s);
</script>

<template>
  <svg
    :viewBox="`0 0 ${left + width + 110} ${rows.length * 26 + 34}`"
    role="img"
    :aria-label="`When certificates end: ${rows.map((r) => `${r.name} ${r.text}`).join(', ')}`"
  >
    <g v-for="m in marks" :key="m">
      <line
        :x1="left + (m / months) * width"
        y1="22"
        :x2="left + (m / months) * width"
        :y2="rows.length * 26 + 26"
        class="grid"
      />
      <text :x="left + (m / months) * width" y="14" text-anchor="middle" class="mark">
        {{ m === 0 ? "now" : `${m} months` }}
      </text>
    </g>
    <g v-for="(r, i) in rows" :key="r.name + r.hint + r.at">
      <title>{{ r.name }}, {{ r.hint }}: ends {{ r.text }}</title>
      <text :x="left - 10" :y="i * 26 + 44" text-anchor="end" class="name">{{ short(r.name) }}</text>
      <rect :x="left" :y="i * 26 + 34" :width="Math.max(3, r.x)" height="13" rx="2" :class="r.state" />
      <text :x="left + Math.max(3, r.x) + 8" :y="i * 26 + 45" class="when" :class="r.state">
        {{ r.state === "over" ? `ended ${r.text}` : r.beyond ? `→ ${r.text}` : r.text }}
      </text>
    </g>
  </svg>
</template>

<style scoped>
svg {
  width: 100%;
  height: auto;
  display: block;
  max-height: 420px;
}
text {
  font-size: 13px;
  fill: var(--ink);
  font-family: inherit;
}
.mark {
  fill: var(--soft);
}
.grid {
  stroke: var(--hair);
}
rect.far {
  fill: var(--moss-line);
}
rect.near {
  fill: var(--brass-line);
}
rect.soon,
rect.over {
  fill: var(--rust-line);
}
.when {
  fill: var(--soft);
}
text.near {
  fill: var(--brass);
}
text.soon,
text.over {
  fill: var(--rust);
}
</style>
