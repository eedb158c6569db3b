<script setup lang="ts">
import { computed } from "vue";
import type { ApplicationConfig } from "../api/client";
import { contextWishes } from "../composables/choices";
import { useEditing } from "../composables/edits";
import DraftField from "./DraftField.vue";

const { draft } = useEditing<ApplicationConfig>();
// To demand is what happens where nothing is said.
const wish = computed({
  get: () => (draft.value.contexts === "demand" ? "" : (draft.value.contexts ?? "")),
  set: (v: string) => (draft.value.contexts = v || undefined),
});
</script>

<template>
  <DraftField
    v-model="wish"
    path="contexts"
    label="The strength of sign-in that it asks for counts"
    as="choice"
    :options="contextWishes"
    hint="Many libraries demand a password context by default, which not every provider can say."
  />
</template>
