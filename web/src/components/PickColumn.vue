<script setup lang="ts" generic="T">
import type { useChosen } from "../composables/chosen";

// The column by which rows are chosen, and all that are shown at once.
defineProps<{ items: T[]; chosen: ReturnType<typeof useChosen<T>>; name: (row: T) => string }>();
</script>

<template>
  <ElTableColumn width="44" class-name="pick">
    <template #header>
      <ElCheckbox
        :model-value="chosen.every(items)"
        :indeterminate="chosen.count.value > 0 && !chosen.every(items)"
        aria-label="Choose all that are shown"
        @change="chosen.all(items, !!$event)"
      />
    </template>
    <template #default="{ row }">
      <ElCheckbox
        :model-value="chosen.has(row as T)"
        :aria-label="`Choose ${name(row as T)}`"
        @change="chosen.toggle(row as T, !!$event)"
      />
    </template>
  </ElTableColumn>
</template>
