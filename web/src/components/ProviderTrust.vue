<script setup lang="ts">
import { computed } from "vue";
import { http, ok, type Provider, type TakeIn, type Understood } from "../api/client";
import { useEditing } from "../composables/edits";
import { useLoad } from "../composables/load";
import CertificateTable from "./CertificateTable.vue";
import GiveOurs from "./GiveOurs.vue";
import KeytabPanel from "./KeytabPanel.vue";
import MetadataWatch from "./MetadataWatch.vue";
import PushPanel from "./PushPanel.vue";
import ProviderForm from "./ProviderForm.vue";
import ReadPeople from "./ReadPeople.vue";
import SecretPanel from "./SecretPanel.vue";
import TryDirectory from "./TryDirectory.vue";
import TakeTheirs from "./TakeTheirs.vue";

// What is held of a provider: its values, certificates and secrets, taken from it or entered field by field.
const props = defineProps<{
  provider: Provider;
  understand: (body: TakeIn) => Promise<Understood>;
  take: (body: TakeIn) => Promise<void>;
}>();
const emit = defineEmits<{ changed: [] }>();
const { readonly, dirty } = useEditing();
const { data: sheet } = useLoad(
  () => ok(http.GET("/providers/{slug}/exchange", { params: { path: { slug: props.provider.slug } } })),
  [() => props.provider.slug],
);
const usesSecret = computed(() => !["private_key_jwt", "none"].includes(props.provider.oidc?.authentication ?? ""));
</script>

<template>
  <h2>Trust: what is held of {{ provider.name }}</h2>
  <CertificateTable v-if="provider.saml || provider.ldap" :certificates="provider.certificateDetails ?? []" />
  <TakeTheirs
    v-if="!readonly && provider.kind !== 'oauth2'"
    :understand="understand"
    :take="(i) => take(i)"
    :directory="!!provider.ldap"
    :realm="!!provider.kerberos"
  />
  <MetadataWatch
    v-if="provider.saml"
    kind="providers"
    :slug="provider.slug"
    :watch="provider.watch"
    :readonly="readonly"
    @changed="emit('changed')"
  />
  <KeytabPanel
    v-else-if="provider.kerberos"
    :slug="provider.slug"
    :secrets="provider.secrets ?? []"
    :readonly="readonly"
    @changed="emit('changed')"
  />
  <SecretPanel
    v-else-if="usesSecret"
    kind="providers"
    :slug="provider.slug"
    :secrets="provider.secrets ?? []"
    :readonly="readonly"
    :directory="!!provider.ldap"
    :certificate="provider.ldap?.bindBy === 'certificate'"
    @changed="emit('changed')"
  />
  <ReadPeople v-if="provider.ldap?.reading && !readonly" :slug="provider.slug" />
  <TryDirectory v-if="provider.ldap?.servers?.length && !readonly" :slug="provider.slug" :changed="dirty" />
  <details
    :open="
      !provider.saml?.entityId &&
      !provider.oidc?.authorizationEndpoint &&
      !provider.ldap?.base &&
      !provider.kerberos?.realms?.length
    "
  >
    <summary>Values, field by field</summary>
    <ProviderForm :provider="provider" part="values" />
  </details>
  <details>
    <summary>Options</summary>
    <ProviderForm :provider="provider" part="options" />
  </details>
  <PushPanel
    v-if="provider.kind !== 'directory'"
    :slug="provider.slug"
    :kept="!!provider.pushed"
    :readonly="readonly"
  />
  <details v-if="sheet" :open="!provider.saml?.entityId && !provider.oidc?.clientId">
    <summary>Give ours</summary>
    <GiveOurs :sheet="sheet" short />
  </details>
</template>
