<script setup lang="ts">
import type { Finding } from "../api/client";

defineProps<{ findings: Finding[]; empty?: string }>();
const words: Record<string, string> = { broken: "Broken", attention: "Needs attention", remark: "Remark" };
</script>

<template>
  <section class="stack" aria-label="Findings">
    <article v-for="f in findings" :key="f.code + f.title + f.detail" class="panel finding" :class="f.severity">
      <p class="kind">{{ words[f.severity] ?? f.severity }}</p>
      <h3>{{ f.title }}</h3>
      <p>{{ f.detail }}</p>
      <p v-for="e in f.evidence ?? []" :key="e.label" class="small">
        <span class="soft">{{ e.label }}</span><br /><span class="mono">{{ e.got }}</span>
      </p>
      <p v-if="f.remedy"><b>What to do:</b> {{ f.remedy }}</p>
      <slot :finding="f" />
    </article>
    <p v-if="!findings.length && empty" class="soft">{{ empty }}</p>
  </section>
</template>

<style scoped>
.finding {
  border-left-width: 4px;
  padding: 12px 16px;
}
.finding.broken {
  border-left-color: var(--rust-line);
}
.finding.attention {
  border-left-color: var(--brass-line);
}
.finding p {
  margin: 0 0 6px;
  font-size: 14px;
}
.kind {
  color: var(--soft);
  font-size: 13px !important;
}
.broken .kind {
  color: var(--rust);
}
.attention .kind {
  color: var(--brass);
}
</style>
