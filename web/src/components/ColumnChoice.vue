<script setup lang="ts">
import { ElButton } from "element-plus";

// Which columns of a list are shown. The value names those that are not.
defineProps<{ columns: [name: string, label: string][] }>();
const hidden = defineModel<string[]>({ required: true });
const show = (name: string, on: boolean) =>
  (hidden.value = on ? hidden.value.filter((h) => h !== name) : [...hidden.value, name]);
</script>

<template>
  <ElPopover trigger="click" :width="240">
    <template #reference><ElButton size="small">Columns</ElButton></template>
    <b class="small">Columns</b>
    <div v-for="[name, label] in columns" :key="name">
      <ElCheckbox :model-value="!hidden.includes(name)" :label="label" @change="show(name, !!$event)" />
    </div>
  </ElPopover>
</template>
