<script setup lang="ts">
import { computed } from "vue";
import type { ProviderConfig } from "../api/client";
import { asChoices, nameIDFormats } from "../composables/choices";
import { useEditing } from "../composables/edits";
import { certificatesIn, certificateText } from "../composables/saml";
import CommonOptions from "./CommonOptions.vue";
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";

defineProps<{ part: "values" | "options" | "matching" }>();
const { draft } = useEditing<ProviderConfig>();
const saml = computed(() => draft.value.saml!);

function location(binding: string) {
  return computed({
    get: () => saml.value.sso?.find((e) => e.binding === binding)?.location ?? "",
    set: (v: string) => {
      const rest = (saml.value.sso ?? []).filter((e) => e.binding !== binding);
      saml.value.sso = v
        ? [...rest, { service: "SingleSignOnService", binding, location: v, index: null, default: false }]
        : rest;
    },
  });
}
const redirect = location("HTTP-Redirect");
const post = location("HTTP-POST");
const certificates = computed({
  get: () => certificateText(saml.value.certificates),
  set: (text: string) =>
    (saml.value.certificates = certificatesIn(text, saml.value.certificates ?? [], (pem) => ({ use: "signing", pem }))),
});
const artifact = computed({
  get: () => saml.value.artifact?.[0]?.location ?? "",
  set: (location: string) => {
    const index = saml.value.artifact?.[0]?.index ?? 0;
    saml.value.artifact = location
      ? [{ service: "ArtifactResolutionService", binding: "SOAP", location, index, default: true }]
      : undefined;
  },
});
const usual = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport";
const comparison = computed({
  get: () => saml.value.requestedContext?.comparison ?? "",
  set: (v: string) =>
    (saml.value.requestedContext = v
      ? { comparison: v, classes: saml.value.requestedContext?.classes ?? [usual] }
      : undefined),
});
</script>

<template>
  <template v-if="part === 'values'">
    <CommonValues />
    <DraftField
      path="saml.entityId"
      label="Entity ID"
      hint="Also called issuer, IdP identifier. Compared letter by letter."
    />
    <DraftField
      v-model="redirect"
      path="saml.sso"
      label="SSO URL for HTTP-Redirect"
      hint="Also called login URL, sign-in address."
    />
    <DraftField v-model="post" path="saml.sso.post" label="SSO URL for HTTP-POST" />
    <DraftField
      v-model="certificates"
      path="saml.certificates"
      label="Certificates"
      as="area"
      plain
      :rows="4"
      hint="PEM. A signature by any of their keys is accepted."
    />
  </template>
  <DraftField
    v-else-if="part === 'matching'"
    path="saml.subjectFrom"
    label="Attribute that identifies a person"
    hint="Only where the provider sends no useful NameID."
  />
  <template v-else>
    <DraftField
      path="saml.nameIdFormat"
      label="NameID format that we ask for"
      as="choice"
      :options="[['', 'none in particular'], ...nameIDFormats]"
      hint="Persistent is best for knowing people again; none where the provider refuses every wish."
    />
    <DraftField
      path="saml.requestBinding"
      label="We send requests by"
      as="choice"
      :options="asChoices(['HTTP-Redirect', 'HTTP-POST'])"
      hint="Redirect is shorter; POST where the provider says so, or where requests are very long."
    />
    <DraftField
      path="saml.sendUnsigned"
      label="Leave our requests unsigned"
      as="check"
      hint="Only for a provider that can't take signed ones."
    />
    <DraftField
      path="saml.wantAssertionSigned"
      label="The assertion itself must be signed"
      as="check"
      hint="Without it a signed response is enough."
    />
    <DraftField
      path="saml.forceAuthn"
      label="Always ask for a fresh sign-in"
      as="check"
      hint="ForceAuthn: people enter their password again although the provider knows them."
    />
    <DraftField
      path="saml.allowUnsolicited"
      label="Accept sign-ins that the provider began"
      as="check"
      hint="Needed for IdP-initiated sign-in. Anybody can then be signed in by a link; leave it off unless it is wanted."
    />
    <DraftField
      path="saml.allowCbc"
      label="Accept AES-CBC"
      as="check"
      hint="Only for a provider that knows nothing else, and only under a signed response."
    />
    <DraftField
      path="saml.responseBinding"
      label="We ask for answers by"
      as="choice"
      :options="asChoices(['HTTP-POST', 'HTTP-Artifact'])"
      hint="By artifact the answer itself never passes the browser; we fetch it from the provider. Both servers must reach
        each other."
    />
    <DraftField
      v-if="saml.responseBinding === 'HTTP-Artifact'"
      v-model="artifact"
      path="saml.artifact"
      label="Artifact resolution URL"
    />
    <DraftField
      v-model="comparison"
      path="saml.requestedContext.comparison"
      label="How strongly people must sign in there"
      as="choice"
      :options="[
        ['', 'not asked'],
        ['exact', 'exactly one of these'],
        ['minimum', 'at least as strong as'],
        ['better', 'stronger than'],
        ['maximum', 'at most as strong as'],
      ]"
      hint="Asked in each request. A provider that can't prove it answers NoAuthnContext."
    />
    <DraftField
      v-if="comparison"
      path="saml.requestedContext.classes"
      label="Contexts"
      as="list"
      hint="AuthnContextClassRef URIs."
    />
    <CommonOptions partner="the provider" />
  </template>
</template>
