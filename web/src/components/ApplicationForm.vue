<script setup lang="ts">
import type { Application } from "../api/client";
import ClientForm from "./ClientForm.vue";
import GuardedForm from "./GuardedForm.vue";
import SAMLApplicationForm from "./SAMLApplicationForm.vue";

defineProps<{ application: Application; part: "values" | "options" }>();
</script>

<template>
  <ClientForm v-if="application.kind === 'oidc'" :part="part" />
  <SAMLApplicationForm v-else-if="application.kind === 'saml'" :part="part" />
  <GuardedForm v-else :application="application" :part="part" />
</template>
