<script setup lang="ts">
import type { Judged } from "../api/client";
import TimeText from "./TimeText.vue";
import TwoValues from "./TwoValues.vue";

defineProps<{ judged: Judged }>();
</script>

<template>
  <div role="status">
    <p class="soft small">
      Taken for: {{ judged.kind }}. By the rules of {{ judged.provider || judged.application || "nobody" }}, as of
      <TimeText :at="judged.at" />.
    </p>
    <p v-if="judged.good">
      <b>It would go well.</b> All {{ judged.entries.filter((e) => e.check).length }} checks hold{{
        judged.then ? `; ${judged.then.person}` : ""
      }}.
    </p>
    <template v-else-if="judged.explanation"
      ><p>
        <b>It would be refused: {{ judged.explanation.title }}.</b> {{ judged.explanation.cause }}
      </p>
      <template v-for="(e, i) in judged.explanation.evidence" :key="e.label + i"
        ><TwoValues v-if="e.expected && e.got" :difference="judged.explanation.differences[i]!"
      /></template>
      <p>{{ judged.explanation.remedy }}</p></template
    >
    <details v-if="judged.entries.length">
      <summary>Every check</summary>
      <ul class="checks">
        <template v-for="(e, i) in judged.entries" :key="i"
          ><li v-if="e.check">
            <span :class="e.check.ok ? 'ok' : 'bad'">{{ e.check.ok ? "✓ holds" : "✕ fails" }}</span> {{ e.check.text }}
            <span class="soft small">{{ e.check.section }}</span>
          </li></template
        >
      </ul>
    </details>
  </div>
</template>

<style scoped>
.checks {
  list-style: none;
  padding: 0;
}
.ok {
  color: var(--moss);
  font-weight: 700;
}
.bad {
  color: var(--rust);
  font-weight: 700;
}
summary {
  cursor: pointer;
  color: var(--sea);
}
</style>
