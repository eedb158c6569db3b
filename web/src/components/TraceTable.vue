<script setup lang="ts">
import type { TraceSummary } from "../api/client";
import { duration, flowWords, outcomeWords } from "../composables/text";
import TimeText from "./TimeText.vue";

const props = defineProps<{
  traces: TraceSummary[];
  empty: string;
  /** Whether a column is shown; all are without it. */
  shows?: (column: string) => boolean;
}>();
const shown = (column: string) => props.shows?.(column) ?? true;
</script>

<template>
  <ElTable v-if="traces.length" table-layout="auto" :data="traces" row-key="reference" class="dense">
    <ElTableColumn label="Reference">
      <template #default="{ row: t }">
        <RouterLink :to="`/traces/${t.reference}`" class="mono">{{ t.reference }}</RouterLink>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Outcome">
      <template #default="{ row: t }">
        <span class="tag" :class="outcomeWords[t.outcome]?.state">{{ outcomeWords[t.outcome]?.text }}</span>
        <span v-if="t.title" class="small why">{{ t.title }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="shown('application')" label="Application">
      <template #default="{ row: t }">{{ t.application || "–" }}</template>
    </ElTableColumn>
    <ElTableColumn v-if="shown('provider')" label="Provider">
      <template #default="{ row: t }">{{ t.provider || "–" }}</template>
    </ElTableColumn>
    <ElTableColumn v-if="shown('person')" label="Person">
      <template #default="{ row: t }">{{ t.person || "–" }}</template>
    </ElTableColumn>
    <ElTableColumn v-if="shown('flow')" label="Begun by">
      <template #default="{ row: t }">{{ flowWords[t.flow] }}{{ t.rehearsal ? ", rehearsal" : "" }}</template>
    </ElTableColumn>
    <ElTableColumn label="When">
      <template #default="{ row: t }">
        <TimeText :at="t.started" from />
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="shown('took')" label="Took">
      <template #default="{ row: t }">{{ duration(t.micros) }}</template>
    </ElTableColumn>
  </ElTable>
  <p v-else class="soft">{{ empty }}</p>
</template>
