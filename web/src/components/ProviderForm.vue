<script setup lang="ts">
import type { Provider, ProviderConfig } from "../api/client";
import OpenIDForm from "./OpenIDForm.vue";
import SAMLProviderForm from "./SAMLProviderForm.vue";

defineProps<{
  provider: Provider;
  part: "values" | "options" | "matching";
  readonly?: boolean;
  save: (change: (held: ProviderConfig) => ProviderConfig) => Promise<void>;
}>();
</script>

<template>
  <SAMLProviderForm
    v-if="provider.kind === 'saml'"
    :provider="provider"
    :part="part"
    :readonly="readonly"
    :save="save"
  />
  <OpenIDForm v-else :provider="provider" :part="part" :readonly="readonly" :save="save" />
</template>
