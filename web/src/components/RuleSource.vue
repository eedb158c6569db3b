<script setup lang="ts">
import type { RuleSet } from "../api/client";
import type { Row } from "../composables/mapping";
import NameInput from "./NameInput.vue";

// Where a rule takes its values. It is a component of its own, so that a letter typed into it draws this cell alone.
defineProps<{ number: number; sets: RuleSet[]; names: () => string[] }>();
const row = defineModel<Row>({ required: true });
const hints = { expr: "given_name + ' ' + family_name", value: "the value" };
</script>

<template>
  <div class="source">
    <ElSelect v-model="row.kind" :aria-label="`Where rule ${number} takes its values`">
      <ElOption value="from" label="from" />
      <ElOption value="value" label="always" />
      <ElOption value="expr" label="computed" />
      <ElOption value="use" label="rule set" />
    </ElSelect>
    <ElSelect v-if="row.kind === 'use'" v-model="row.source" filterable :aria-label="`Rule set of rule ${number}`">
      <ElOption v-for="s in sets" :key="s.slug" :value="s.slug" :label="s.name" />
    </ElSelect>
    <NameInput
      v-else-if="row.kind === 'from'"
      v-model="row.source"
      many
      :names="names"
      :label="`Sources of rule ${number}`"
      placeholder="names, separated by commas"
    />
    <ElInput
      v-else
      v-model="row.source"
      type="textarea"
      :autosize="{ minRows: 1, maxRows: 5 }"
      class="mono"
      :aria-label="`Sources of rule ${number}`"
      :placeholder="hints[row.kind]"
    />
  </div>
</template>

<style scoped>
.source {
  display: flex;
  gap: 4px;
  align-items: flex-start;
}
.source > .el-select:first-child {
  flex: none;
  width: 104px;
}
</style>
