<script setup lang="ts">
import { ElButton } from "element-plus";
import type { ProviderConfig } from "../api/client";
import { useEditing, useRows } from "../composables/edits";

const { draft, readonly } = useEditing<ProviderConfig>();
const keep = useRows(
  () => draft.value.keep,
  () => Object.entries(draft.value.keep ?? {}).map(([name, how]) => ({ name, how: String(how) })),
  (rows) =>
    (draft.value.keep = Object.fromEntries(rows.filter((k) => k.name.trim()).map((k) => [k.name.trim(), k.how]))),
);
</script>

<template>
  <h3>The profile at later sign-ins</h3>
  <p class="soft small">What the provider sends replaces what is held, but for these:</p>
  <div v-for="(k, i) in keep" :key="i" class="line">
    <ElInput
      v-model="k.name"
      class="mono"
      :disabled="readonly"
      :aria-label="`Attribute ${i + 1} with a rule of its own`"
      placeholder="phone_number"
    />
    <ElSelect v-model="k.how" :disabled="readonly" :aria-label="`Rule for attribute ${i + 1}`">
      <ElOption value="provider" label="the provider wins" />
      <ElOption value="first" label="the first value stays" />
      <ElOption value="local" label="what was entered here stays" />
    </ElSelect>
    <ElButton v-if="!readonly" text size="small" :aria-label="`Take attribute ${i + 1} away`" @click="keep.splice(i, 1)"
      >✕</ElButton
    >
  </div>
  <ElButton v-if="!readonly" size="small" @click="keep.push({ name: '', how: 'local' })">Add an attribute</ElButton>
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
