<script setup lang="ts">
import { ElCheckbox } from "element-plus";
import { computed } from "vue";
import type { ApplicationConfig } from "../api/client";
import TextBox from "./TextBox.vue";

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
  <TextBox v-model="draft.startUrl" label="Start address" :hint="hint" mono :disabled="readonly" />
  <p v-if="guessed && !readonly"><ElCheckbox :model-value="false" label="It is right" @change="right" /></p>
</template>
