<script setup lang="ts">
import { computed } from "vue";
import type { Provider } from "../api/client";
import CertificateTable from "./CertificateTable.vue";
import MappingEditor from "./MappingEditor.vue";

// A station of the provider's half of the passage, as an application's page shows it: to be read, and changed over there.
const props = defineProps<{ provider: Provider; station: string }>();
const titles: Record<string, string> = {
  matching: "Matching: who a person is",
  "mapping-in": `Mapping in: what ${props.provider.name} sends`,
};
const lines = computed(() => props.provider.stations?.find((s) => s.name === props.station)?.lines ?? []);
</script>

<template>
  <h2>{{ titles[station] ?? `Trust: what is held of ${provider.name}` }}</h2>
  <MappingEditor v-if="station === 'mapping-in'" :model-value="provider.mapping ?? []" direction="in" readonly />
  <template v-else-if="station === 'matching' || provider.oidc">
    <p v-for="l in lines" :key="l">{{ l }}</p>
  </template>
  <CertificateTable v-else :certificates="provider.certificateDetails ?? []" />
  <p>
    <RouterLink :to="`/providers/${provider.slug}?station=${station}`"
      >Change it on the page of {{ provider.name }}</RouterLink
    >
  </p>
</template>
