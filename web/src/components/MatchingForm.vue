<script setup lang="ts">
import { computed } from "vue";
import { http, ok, type Provider, type ProviderConfig } from "../api/client";
import { asChoices } from "../composables/choices";
import { useEditing } from "../composables/edits";
import { useLoad } from "../composables/load";
import ContextLines from "./ContextLines.vue";
import DraftField from "./DraftField.vue";
import GrantTable from "./GrantTable.vue";
import KeepLines from "./KeepLines.vue";
import MatchingWays from "./MatchingWays.vue";
import TrustedScope from "./TrustedScope.vue";

defineProps<{ provider: Provider }>();
const { draft, readonly } = useEditing<ProviderConfig>();
const { data: settings } = useLoad(() => ok(http.GET("/people-settings")));
const types = computed(() => asChoices(settings.value?.settings.types ?? []));
const creates = computed(() => ["create", "ask"].includes(draft.value.admission ?? ""));
const contexts = computed({
  get: () => draft.value.contexts ?? [],
  set: (v) => (draft.value.contexts = v.length ? v : undefined),
});
</script>

<template>
  <p class="soft">
    People are known by the link that their first sign-in made. Whoever comes without one may be somebody who is known
    already.
  </p>
  <TrustedScope />
  <MatchingWays />
  <h3>A stranger</h3>
  <DraftField
    path="admission"
    label="A subject that nobody here is"
    as="choice"
    usual="refuse"
    :options="[
      ['refuse', 'is refused'],
      ['create', 'is created at the first sign-in'],
      ['ask', 'is created after confirming the profile'],
      ['pass', 'is passed through: nobody is matched or stored'],
    ]"
  />
  <template v-if="creates">
    <DraftField path="admit.groups" label="Begins in the groups" as="list" />
    <DraftField path="admit.type" label="Begins as" as="choice" :options="[['', 'the usual type'], ...types]" />
  </template>
  <GrantTable :types="types" />
  <KeepLines />
  <h3>A stronger sign-in</h3>
  <DraftField
    path="stronger"
    label="Ask the provider for"
    hint="The context (SAML) or acr value by which it asks for a second factor, where an access rule wants one."
  />
  <h3>What its contexts stand for</h3>
  <p class="soft small">
    Applications ask for a strength of sign-in in their own words, and providers say it in theirs, or not at all. Each
    line holds both ways.
  </p>
  <ContextLines v-model="contexts" :readonly="readonly" :methods="provider.kind === 'oidc'" />
</template>

<style scoped>
h3 {
  margin: 18px 0 4px;
}
</style>
