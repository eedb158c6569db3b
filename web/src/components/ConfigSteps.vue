<script setup lang="ts">
import type { ConfigResult } from "../api/client";
import { pageOf } from "../composables/changes";
import FieldChanges from "./FieldChanges.vue";

defineProps<{ result: ConfigResult; done?: boolean }>();
const words: Record<string, { text: string; done: string; state: string }> = {
  create: { text: "will be made", done: "made", state: "sound" },
  update: { text: "will change", done: "changed", state: "attention" },
  remove: { text: "will be deleted", done: "deleted", state: "broken" },
};
</script>

<template>
  <div aria-live="polite">
    <div v-if="result.effects.length" class="effects">
      <h3>What people will notice</h3>
      <ul>
        <li v-for="w in result.words ?? []" :key="w">
          <b>{{ w }}</b>
        </li>
      </ul>
      <template v-for="e in result.effects" :key="e.slug"
        ><p v-if="e.lose.length" class="small">
          Out of {{ e.name }}: {{ e.lose.map((p) => p.name).join(", ")
          }}<template v-if="e.loses > e.lose.length"> and {{ e.loses - e.lose.length }} more</template>
        </p>
        <p v-if="e.gain.length" class="small">
          In to {{ e.name }}: {{ e.gain.map((p) => p.name).join(", ")
          }}<template v-if="e.gains > e.gain.length"> and {{ e.gains - e.gain.length }} more</template>
        </p></template
      >
    </div>
    <p v-if="!result.steps.length" role="status">
      Nothing would change: {{ result.unchanged }} objects are as they should be.
    </p>
    <p v-else role="status">
      {{ result.steps.length }} {{ result.steps.length === 1 ? "object" : "objects" }}
      {{ done ? "changed" : "would change"
      }}<template v-if="result.unchanged">; {{ result.unchanged }} are as they should be</template>.<template
        v-if="!done"
      >
        Nothing was changed yet.</template
      >
    </p>
    <details
      v-for="s in result.steps.slice(0, 200)"
      :key="s.kind + s.slug"
      :open="result.steps.length < 6 && s.action === 'update'"
    >
      <summary>
        <span class="tag" :class="words[s.action]?.state">{{
          done ? words[s.action]?.done : words[s.action]?.text
        }}</span>
        {{ s.kind }} <b>{{ s.name || s.slug }}</b>
        <span v-if="s.file" class="soft small mono">{{ s.file }}:{{ s.line }}</span>
      </summary>
      <p v-if="pageOf(s.kind, s.slug) && s.action === 'update'" class="small">
        <RouterLink :to="pageOf(s.kind, s.slug)!">its page</RouterLink>
      </p>
      <FieldChanges
        :changes="s.changes"
        :empty="
          s.action === 'remove'
            ? 'Its history stays; it can be brought back.'
            : s.kind === 'secret'
              ? 'The value is not shown.'
              : undefined
        "
      />
    </details>
    <p v-if="result.steps.length > 200" class="soft">The first 200 are shown.</p>
  </div>
</template>

<style scoped>
details {
  border-top: 1px solid var(--hair);
  padding: 6px 0;
}
summary {
  cursor: pointer;
  padding: 4px 0;
}
.effects {
  border-left: 4px solid var(--brass-line);
  padding: 4px 14px;
  background: var(--brass-tint);
  margin-bottom: 12px;
}
.effects p,
.effects ul {
  margin: 4px 0;
}
</style>
