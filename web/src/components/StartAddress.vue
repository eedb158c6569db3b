<script setup lang="ts">
import { ElCheckbox } from "element-plus";
import { computed } from "vue";
import type { ApplicationConfig } from "../api/client";

defineProps<{ readonly?: boolean }>();
const draft = defineModel<ApplicationConfig>({ required: true });
const guessed = computed(() => !!draft.value.startUrl && draft.value.startUrl === draft.value.guessedStart);
const right = () => (draft.value.guessedStart = undefined);
const hint = computed(() =>
  guessed.value
    ? "A guess, made from another address of the application. Look whether people begin there."
    : "The application's own address at which people begin.",
);
</script>

<template>
  <ElFormItem label="Start address">
    <ElInput v-model="draft.startUrl" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
    <small v-if="hint">{{ hint }}</small>
  </ElFormItem>
  <p v-if="guessed && !readonly">
    <ElCheckbox :model-value="false" label="It is right" @change="right" />
  </p>
</template>
