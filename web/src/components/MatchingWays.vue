<script setup lang="ts">
import { ElButton } from "element-plus";
import type { ProviderConfig } from "../api/client";
import { useEditing, useRows } from "../composables/edits";

type Matching = NonNullable<ProviderConfig["matching"]>;
type Way = string | Record<string, string>;
const { draft, readonly } = useEditing<ProviderConfig>();
const by = () => (draft.value.matching?.by ?? []) as Way[];
const ways = useRows(
  by,
  () =>
    by().map((w) =>
      typeof w === "string" ? { by: w, expr: "" } : { by: Object.keys(w)[0] ?? "", expr: Object.values(w)[0] ?? "" },
    ),
  (rows) => {
    const list = rows.filter((w) => w.by).map((w) => (w.expr.trim() ? { [w.by]: w.expr.trim() } : w.by));
    if (list.length || draft.value.matching)
      draft.value.matching = { ...draft.value.matching, by: list as Matching["by"] };
  },
);
</script>

<template>
  <h3>Find by value</h3>
  <p class="soft small">
    Asked in order, and only within what this provider may speak for. Two who fit, or a value that only looks alike, are
    refused with the reason; nothing is guessed.
  </p>
  <div v-for="(w, i) in ways" :key="i" class="line">
    <ElSelect v-model="w.by" :disabled="readonly" :aria-label="`Way ${i + 1}`">
      <ElOption value="external_id" label="external ID" />
      <ElOption value="username" label="user name" />
      <ElOption value="email" label="mail address" />
    </ElSelect>
    <ElInput
      v-model="w.expr"
      class="mono"
      :disabled="readonly"
      :aria-label="`Expression of way ${i + 1}`"
      placeholder="as the mapping in sets it, or an expression"
    />
    <ElButton v-if="!readonly" text size="small" :aria-label="`Take way ${i + 1} away`" @click="ways.splice(i, 1)"
      >✕</ElButton
    >
  </div>
  <ElButton v-if="!readonly" size="small" @click="ways.push({ by: 'email', expr: '' })">Add a way</ElButton>
</template>

<style scoped>
.line {
  display: flex;
  gap: 6px;
  margin-bottom: 6px;
}
h3 {
  margin: 18px 0 4px;
}
</style>
