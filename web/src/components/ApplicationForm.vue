<script setup lang="ts">
import type { Application, ApplicationConfig } from "../api/client";
import ClientForm from "./ClientForm.vue";
import GuardedForm from "./GuardedForm.vue";
import SAMLApplicationForm from "./SAMLApplicationForm.vue";

defineProps<{
  application: Application;
  part: "values" | "options";
  readonly?: boolean;
  save: (change: (held: ApplicationConfig) => ApplicationConfig) => Promise<void>;
}>();
</script>

<template>
  <ClientForm
    v-if="application.kind === 'oidc'"
    :application="application"
    :part="part"
    :readonly="readonly"
    :save="save"
  />
  <GuardedForm
    v-else-if="application.kind !== 'saml'"
    :application="application"
    :part="part"
    :readonly="readonly"
    :save="save"
  />
  <SAMLApplicationForm v-else :application="application" :part="part" :readonly="readonly" :save="save" />
</template>
