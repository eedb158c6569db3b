<script setup lang="ts">
import type { Previewed } from "../api/client";
import { few } from "../composables/text";
import BagTable from "./BagTable.vue";

// What would become of a sample: what is decided, what differs from what is live, the profile, what is sent.
defineProps<{ got: Previewed; account?: boolean }>();
const results: Record<string, string> = {
  allow: "gets in",
  refuse: "is refused",
  stronger: "is asked for a second factor",
};
</script>

<template>
  <div class="result" aria-live="polite">
    <p v-if="got.refused" class="error">
      <b>{{ got.refused.title }}.</b> {{ got.refused.cause }} {{ got.refused.remedy }}
    </p>
    <p v-for="p in [...got.in.problems, ...(got.out?.problems ?? [])]" :key="p.rule + p.message" class="error">
      <b class="mono">{{ p.rule }}</b>: {{ p.message }}
    </p>
    <p v-if="got.access">
      <b>{{ got.person || "Somebody" }} {{ results[got.access.result] }}</b
      >: {{ got.access.by }}.
    </p>
    <template v-if="account">
      <p v-for="d in got.decisions.filter((d) => d.about === 'account')" :key="d.about">
        <b>{{ got.person || "Somebody" }} {{ d.result }}</b
        >: {{ d.by }}.
      </p>
    </template>
    <template v-if="got.differences.length"
      ><h3>What changes against what is live</h3>
      <ElTable table-layout="auto" :data="got.differences">
        <ElTableColumn label="Where">
          <template #default="{ row: d }">{{ d.where }}</template>
        </ElTableColumn>
        <ElTableColumn label="What">
          <template #default="{ row: d }">
            <span class="mono">{{ d.name }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Live">
          <template #default="{ row: d }">
            <span class="mono gone">{{ few(d.live) }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="With the change">
          <template #default="{ row: d }">
            <span class="mono come">{{ few(d.draft) }}</span>
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <div class="halves">
      <div>
        <h3>The profile</h3>
        <BagTable :bag="got.profile" empty="Nothing." />
      </div>
      <div v-if="got.out">
        <h3>{{ account ? "The account" : "What is sent" }}</h3>
        <p v-if="!account">
          <b>the identifier</b> <span class="mono">{{ got.subject || "–" }}</span><br v-if="got.subjectWhy" /><span
            class="soft small"
            >{{ got.subjectWhy }}</span
          >
        </p>
        <BagTable :bag="got.out.attributes" empty="No attribute." />
      </div>
    </div>
    <details v-if="got.decisions.length">
      <summary>What was decided, and why</summary>
      <p v-for="(d, i) in got.decisions" :key="i">
        <b>{{ d.about }}</b>: {{ d.result }}<template v-if="d.by"> · {{ d.by }}</template
        ><span v-for="p in d.passed ?? []" :key="p" class="soft small"><br />passed over: {{ p }}</span>
      </p>
    </details>
    <details v-if="got.sent">
      <summary>{{ account ? "As it would be made" : "As it would be sent, without a signature" }}</summary>
      <pre class="mono">{{ got.sent }}</pre>
    </details>
  </div>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 20px;
  margin: 10px 0;
}
.gone {
  background: var(--rust-tint);
}
.come {
  background: var(--moss-tint);
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  background: var(--well);
  padding: 12px;
  border-radius: 3px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
}
h3 {
  margin-top: 12px;
}
</style>
