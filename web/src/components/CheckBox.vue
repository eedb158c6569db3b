<script setup lang="ts">
defineProps<{ label: string; hint?: string; disabled?: boolean }>();
const value = defineModel<boolean>();
</script>

<template>
  <label class="check"
    ><input v-model="value" type="checkbox" :disabled="disabled" /><span
      ><b>{{ label }}</b
      ><small v-if="hint">{{ hint }}</small></span
    ></label
  >
</template>

<style scoped>
.check {
  display: flex;
  gap: 10px;
  align-items: flex-start;
  margin-bottom: 12px;
}
.check input {
  margin-top: 4px;
  width: 18px;
  height: 18px;
  accent-color: var(--sea);
  flex: none;
}
.check b {
  font-size: 14px;
}
.check small {
  display: block;
  color: var(--soft);
  font-size: 13px;
}
</style>
