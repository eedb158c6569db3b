<script setup lang="ts">
import { computed } from "vue";
import type { Application, TakeIn, Understood } from "../api/client";
import { useEditing } from "../composables/edits";
import ApplicationForm from "./ApplicationForm.vue";
import CertificateTable from "./CertificateTable.vue";
import CopyValue from "./CopyValue.vue";
import MetadataWatch from "./MetadataWatch.vue";
import SecretPanel from "./SecretPanel.vue";
import SessionForm from "./SessionForm.vue";
import TakeTheirs from "./TakeTheirs.vue";

// What is held of an application: its values, certificates and secrets, taken from it or entered field by field.
const props = defineProps<{
  application: Application;
  understand: (body: TakeIn) => Promise<Understood>;
  take: (body: TakeIn) => Promise<void>;
}>();
const emit = defineEmits<{ changed: [] }>();
const { readonly } = useEditing();
const usesSecret = computed(() =>
  ["client_secret_basic", "client_secret_post"].includes(props.application.oidc?.authentication ?? ""),
);
const speaks = computed(() => ["saml", "oidc"].includes(props.application.kind));
const begun = computed(
  () => !speaks.value || (!!props.application.oidc && !props.application.oidc.redirectUris?.length),
);
</script>

<template>
  <p class="row begin">
    <b class="small">Start address at the gate</b>
    <CopyValue :value="application.startOurs" label="the start address" />
  </p>
  <h2>Trust: what is held of {{ application.name }}</h2>
  <CertificateTable v-if="application.saml" :certificates="application.certificateDetails ?? []" />
  <TakeTheirs v-if="!readonly && speaks" :understand="understand" :take="(i) => take(i)" />
  <MetadataWatch
    v-if="application.saml"
    kind="applications"
    :slug="application.slug"
    :watch="application.watch"
    :readonly="readonly"
    @changed="emit('changed')"
  />
  <SecretPanel
    v-else-if="usesSecret"
    kind="applications"
    :slug="application.slug"
    :secrets="application.secrets ?? []"
    :readonly="readonly"
    @changed="emit('changed')"
  />
  <details :open="begun">
    <summary>Values, field by field</summary>
    <ApplicationForm :application="application" part="values" />
  </details>
  <details v-if="application.kind !== 'link'">
    <summary>{{ speaks ? "Options" : "Paths and connections" }}</summary>
    <ApplicationForm :application="application" part="options" />
  </details>
  <details>
    <summary>Sessions, signing out and tiles</summary>
    <SessionForm />
  </details>
</template>

<style scoped>
.begin {
  margin-top: 0;
}
</style>
