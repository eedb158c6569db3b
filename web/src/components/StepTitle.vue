<script setup lang="ts">
/** The one line to which a step of connecting folds: what it is, whether it is done, and what is held. */
defineProps<{ step: { title: string; done: boolean; text: string } }>();
</script>

<template>
  <span class="title" :class="{ done: step.done }">
    <span aria-hidden="true">{{ step.done ? "✓" : "○" }}</span> <b>{{ step.title }}</b>
    <span class="soft small">{{ step.text }}</span>
  </span>
</template>

<style scoped>
.title {
  display: flex;
  gap: 10px;
  align-items: baseline;
  font-size: 16px;
}
.done > span:first-child {
  color: var(--moss);
}
</style>
