<script setup lang="ts">
defineProps<{ label: string; hint?: string; options: [string, string][]; disabled?: boolean }>();
const value = defineModel<string>();
</script>

<template>
  <label class="field"
    ><span>{{ label }}</span
    ><small v-if="hint">{{ hint }}</small>
    <select v-model="value" :disabled="disabled">
      <option v-for="[v, text] in options" :key="v" :value="v">{{ text }}</option>
    </select>
  </label>
</template>

<style scoped>
select {
  font: inherit;
  width: 100%;
  padding: 6px 10px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
  min-height: 34px;
}
</style>
