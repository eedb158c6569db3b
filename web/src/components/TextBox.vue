<script setup lang="ts">
defineProps<{
  label: string;
  hint?: string;
  mono?: boolean;
  rows?: number;
  type?: string;
  disabled?: boolean;
  autocomplete?: string;
}>();
const value = defineModel<string>();
</script>

<template>
  <label class="field"
    ><span>{{ label }}</span
    ><small v-if="hint">{{ hint }}</small>
    <textarea
      v-if="rows"
      v-model="value"
      :rows="rows"
      :class="{ mono }"
      spellcheck="false"
      :disabled="disabled"
    ></textarea>
    <input
      v-else
      v-model="value"
      :type="type ?? 'text'"
      :class="{ mono }"
      :spellcheck="mono ? 'false' : undefined"
      :disabled="disabled"
      :autocomplete="autocomplete ?? 'off'"
    />
  </label>
</template>

<style scoped>
input,
textarea {
  font: inherit;
  width: 100%;
  padding: 6px 10px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
  min-height: 34px;
  resize: vertical;
}
.mono {
  font-family: var(--mono);
  font-size: 13.5px;
}
</style>
