<script setup lang="ts">
import type { TraceSummary } from "../api/client";
import { duration, flowWords, outcomeWords } from "../composables/text";
import TimeText from "./TimeText.vue";

defineProps<{ traces: TraceSummary[]; empty: string }>();
</script>

<template>
  <ElTable v-if="traces.length" table-layout="auto" :data="traces" row-key="reference">
    <ElTableColumn label="Reference">
      <template #default="{ row: t }">
        <RouterLink :to="`/traces/${t.reference}`" class="mono">{{ t.reference }}</RouterLink><br /><span
          class="soft small"
          >{{ flowWords[t.flow] }}{{ t.rehearsal ? ", rehearsal" : "" }}</span
        >
      </template>
    </ElTableColumn>
    <ElTableColumn label="Outcome">
      <template #default="{ row: t }">
        <span class="tag" :class="outcomeWords[t.outcome]?.state">{{ outcomeWords[t.outcome]?.text }}</span><template
          v-if="t.title"
          ><br /><span class="small">{{ t.title }}</span></template
        >
      </template>
    </ElTableColumn>
    <ElTableColumn label="Application">
      <template #default="{ row: t }">{{ t.application || "–" }}</template>
    </ElTableColumn>
    <ElTableColumn label="Provider">
      <template #default="{ row: t }">{{ t.provider || "–" }}</template>
    </ElTableColumn>
    <ElTableColumn label="Person">
      <template #default="{ row: t }">{{ t.person || "–" }}</template>
    </ElTableColumn>
    <ElTableColumn label="Begun">
      <template #default="{ row: t }">
        <TimeText :at="t.started" from />
      </template>
    </ElTableColumn>
    <ElTableColumn label="Took">
      <template #default="{ row: t }">{{ duration(t.micros) }}</template>
    </ElTableColumn>
  </ElTable>
  <p v-else class="soft">{{ empty }}</p>
</template>
