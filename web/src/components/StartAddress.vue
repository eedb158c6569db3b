<script setup lang="ts">
import { computed } from "vue";
import type { ApplicationConfig } from "../api/client";
import { useEditing } from "../composables/edits";
import DraftField from "./DraftField.vue";

const { draft, readonly } = useEditing<ApplicationConfig>();
const guessed = computed(() => !!draft.value.startUrl && draft.value.startUrl === draft.value.guessedStart);
const right = () => (draft.value.guessedStart = undefined);
const hint = computed(() =>
  guessed.value
    ? "A guess, made from another address of the application. Look whether people begin there."
    : "The application's own address at which people begin.",
);
</script>

<template>
  <DraftField path="startUrl" label="Start address" :hint="hint" />
  <p v-if="guessed && !readonly">
    <ElCheckbox :model-value="false" label="It is right" @change="right" />
  </p>
</template>
