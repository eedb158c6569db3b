<script setup lang="ts">
import { kindOf, type Row } from "../composables/mapping";
import StepChips from "./StepChips.vue";

// The rules of a mapping, to be read.
defineProps<{ rows: Row[]; direction: "in" | "out"; openid?: boolean }>();
const words = { from: "", value: "always ", expr: "computed ", use: "rule set " };
</script>

<template>
  <ElTable table-layout="auto" :data="rows" empty-text="There is no rule yet." class="dense">
    <ElTableColumn :label="direction === 'in' ? 'Sets' : 'Attribute'">
      <template #default="{ row }">
        <span class="mono">{{ row.kind === "use" ? "rule set" : row.set }}</span>
        <span v-if="row.rest.friendlyName" class="soft small second">{{ row.rest.friendlyName }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn :label="direction === 'in' ? 'From what came' : 'From the profile'">
      <template #default="{ row }">
        <span class="mono">{{ words[kindOf(row.rest)] }}{{ row.source }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Steps">
      <template #default="{ row, $index: i }">
        <StepChips v-if="row.kind !== 'use'" :model-value="row.steps" readonly :of="`rule ${i + 1}`" />
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="openid" label="Place">
      <template #default="{ row }">{{ row.place || "as usual" }}</template>
    </ElTableColumn>
    <ElTableColumn label="Must">
      <template #default="{ row }">{{ row.required ? "yes" : "" }}</template>
    </ElTableColumn>
  </ElTable>
</template>
