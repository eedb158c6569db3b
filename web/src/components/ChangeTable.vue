<script setup lang="ts">
import { shortName } from "../composables/text";

defineProps<{ changes: { field: string; before: string; after: string }[] }>();
</script>

<template>
  <ElTable table-layout="auto" :data="changes">
    <ElTableColumn label="Field">
      <template #default="{ row: c }">{{ c.field }}</template>
    </ElTableColumn>
    <ElTableColumn label="Held now">
      <template #default="{ row: c }">
        <span class="mono">{{ shortName(c.before) || "–" }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Theirs">
      <template #default="{ row: c }">
        <span class="mono">{{ shortName(c.after) || "taken away" }}</span>
      </template>
    </ElTableColumn>
  </ElTable>
</template>
