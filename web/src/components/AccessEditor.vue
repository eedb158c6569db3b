<script setup lang="ts">
import { computed } from "vue";
import type { ApplicationConfig } from "../api/client";
import { useEditing } from "../composables/edits";
import AccessRules from "./AccessRules.vue";
import DraftField from "./DraftField.vue";

const { draft, readonly } = useEditing<ApplicationConfig>();
const rules = computed({
  get: () => draft.value.access?.rules ?? [],
  set: (v) => (draft.value.access = { ...draft.value.access, rules: v }),
});
</script>

<template>
  <DraftField
    path="access.to"
    label="Who may come in"
    as="choice"
    usual="assigned"
    :options="[
      ['assigned', 'people and groups that are assigned'],
      ['everybody', 'everybody for whom a provider vouches'],
    ]"
  />
  <DraftField
    path="access.requires"
    label="Groups that must come from the provider"
    as="list"
    hint="One of these must be among the groups that the mapping in made; empty for none."
  />
  <AccessRules v-model="rules" :readonly="readonly" />
  <DraftField
    v-if="rules.length"
    path="access.otherwise"
    label="Whoever no rule fits"
    as="choice"
    usual="allow"
    :options="[
      ['allow', 'is let in'],
      ['refuse', 'is refused'],
    ]"
  />
</template>
