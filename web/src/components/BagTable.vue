<script setup lang="ts">
import { computed } from "vue";
import { few } from "../composables/text";

// Attributes with their values, by name.
const props = defineProps<{ bag?: Record<string, string[] | undefined>; empty: string }>();
const rows = computed(() =>
  Object.entries(props.bag ?? {})
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([name, values]) => ({ name, values })),
);
</script>

<template>
  <ElTable table-layout="auto" :data="rows" :show-header="false" :empty-text="empty">
    <ElTableColumn>
      <template #default="{ row }">
        <span class="mono">{{ row.name }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn>
      <template #default="{ row }">{{ few(row.values) }}</template>
    </ElTableColumn>
  </ElTable>
</template>
