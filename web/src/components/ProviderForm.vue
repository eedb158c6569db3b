<script setup lang="ts">
import type { Provider } from "../api/client";
import KerberosForm from "./KerberosForm.vue";
import LDAPForm from "./LDAPForm.vue";
import OpenIDForm from "./OpenIDForm.vue";
import SAMLProviderForm from "./SAMLProviderForm.vue";

defineProps<{ provider: Provider; part: "values" | "options" | "matching" }>();
</script>

<template>
  <SAMLProviderForm v-if="provider.kind === 'saml'" :part="part" />
  <LDAPForm v-else-if="provider.kind === 'ldap'" :part="part" />
  <KerberosForm v-else-if="provider.kind === 'kerberos'" :part="part" />
  <OpenIDForm v-else :part="part" />
</template>
