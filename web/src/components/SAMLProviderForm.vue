<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { providerConfig, type Provider, type ProviderConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { useAct } from "../composables/load";
import CommonOptions from "./CommonOptions.vue";
import CheckBox from "./CheckBox.vue";
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

const props = defineProps<{
  provider: Provider;
  part: "values" | "options" | "matching";
  readonly?: boolean;
  save: (change: (held: ProviderConfig) => ProviderConfig) => Promise<void>;
}>();
const { draft, merged } = useDraft(() => providerConfig(props.provider));
const saml = computed(() => draft.value.saml!);
const { error, offers, busy, act } = useAct();

function location(binding: string) {
  return computed({
    get: () => saml.value.sso?.find((e) => e.binding === binding)?.location ?? "",
    set: (v: string) => {
      const rest = (saml.value.sso ?? []).filter((e) => e.binding !== binding);
      saml.value.sso = v.trim()
        ? [...rest, { service: "SingleSignOnService", binding, location: v.trim(), index: null, default: false }]
        : rest;
    },
  });
}
const redirect = location("HTTP-Redirect");
const post = location("HTTP-POST");
const certificates = computed({
  get: () => (saml.value.certificates ?? []).map((c) => c.pem.trim()).join("\n"),
  set: (text: string) => {
    const held = saml.value.certificates ?? [];
    const blocks =
      text.match(/-----BEGIN CERTIFICATE-----[\s\S]*?-----END CERTIFICATE-----/g) ?? (text.trim() ? [text.trim()] : []);
    saml.value.certificates = blocks.map((pem) => held.find((c) => c.pem.trim() === pem) ?? { use: "signing", pem });
  },
});
const artifact = computed({
  get: () => saml.value.artifact?.[0]?.location ?? "",
  set: (v: string) =>
    (saml.value.artifact = v.trim()
      ? [
          {
            service: "ArtifactResolutionService",
            binding: "SOAP",
            location: v.trim(),
            index: saml.value.artifact?.[0]?.index ?? 0,
            default: true,
          },
        ]
      : undefined),
});
const comparison = computed({
  get: () => saml.value.requestedContext?.comparison ?? "",
  set: (v: string) =>
    (saml.value.requestedContext = v
      ? {
          comparison: v,
          classes: saml.value.requestedContext?.classes ?? [
            "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport",
          ],
        }
      : undefined),
});
const classes = computed({
  get: () => (saml.value.requestedContext?.classes ?? []).join("\n"),
  set: (t: string) =>
    saml.value.requestedContext &&
    (saml.value.requestedContext.classes = t
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean)),
});
const store = () => act(() => props.save(merged));
</script>

<template>
  <form @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <TextBox
        v-model="saml.entityId"
        label="Entity ID"
        hint="Also called issuer, IdP identifier. Compared letter by letter."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="redirect"
        label="SSO URL for HTTP-Redirect"
        hint="Also called login URL, sign-in address."
        mono
        :disabled="readonly"
      />
      <TextBox v-model="post" label="SSO URL for HTTP-POST" mono :disabled="readonly" />
      <TextBox
        v-model="certificates"
        label="Certificates"
        hint="PEM. A signature by any of their keys is accepted."
        mono
        :rows="4"
        :disabled="readonly"
      />
    </template>
    <template v-else-if="part === 'matching'">
      <TextBox
        v-model="saml.subjectFrom"
        label="Attribute that identifies a person"
        hint="Only where the provider sends no useful NameID."
        mono
        :disabled="readonly"
      />
    </template>
    <template v-else>
      <SelectBox
        v-model="saml.nameIdFormat"
        label="NameID format that we ask for"
        hint="Persistent is best for knowing people again; none where the provider refuses every wish."
        :disabled="readonly"
        :options="[
          ['', 'none in particular'],
          ['urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', 'persistent'],
          ['urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress', 'emailAddress'],
          ['urn:oasis:names:tc:SAML:2.0:nameid-format:transient', 'transient'],
          ['urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified', 'unspecified'],
        ]"
      />
      <SelectBox
        v-model="saml.requestBinding"
        label="We send requests by"
        hint="Redirect is shorter; POST where the provider says so, or where requests are very long."
        :disabled="readonly"
        :options="[
          ['HTTP-Redirect', 'HTTP-Redirect'],
          ['HTTP-POST', 'HTTP-POST'],
        ]"
      />
      <CheckBox
        v-model="saml.sendUnsigned"
        label="Leave our requests unsigned"
        hint="Only for a provider that can't take signed ones."
        :disabled="readonly"
      />
      <CheckBox
        v-model="saml.wantAssertionSigned"
        label="The assertion itself must be signed"
        hint="Without it a signed response is enough."
        :disabled="readonly"
      />
      <CheckBox
        v-model="saml.forceAuthn"
        label="Always ask for a fresh sign-in"
        hint="ForceAuthn: people enter their password again although the provider knows them."
        :disabled="readonly"
      />
      <CheckBox
        v-model="saml.allowUnsolicited"
        label="Accept sign-ins that the provider began"
        hint="Needed for IdP-initiated sign-in. Anybody can then be signed in by a link; leave it off unless it is wanted."
        :disabled="readonly"
      />
      <CheckBox
        v-model="saml.allowCbc"
        label="Accept AES-CBC"
        hint="Only for a provider that knows nothing else, and only under a signed response."
        :disabled="readonly"
      />
      <SelectBox
        v-model="saml.responseBinding"
        label="We ask for answers by"
        hint="By artifact the answer itself never passes the browser; we fetch it from the provider. Both servers must reach each other."
        :disabled="readonly"
        :options="[
          ['HTTP-POST', 'HTTP-POST'],
          ['HTTP-Artifact', 'HTTP-Artifact'],
        ]"
      />
      <TextBox
        v-if="saml.responseBinding === 'HTTP-Artifact'"
        v-model="artifact"
        label="Artifact resolution URL"
        mono
        :disabled="readonly"
      />
      <SelectBox
        v-model="comparison"
        label="How strongly people must sign in there"
        hint="Asked in each request. A provider that can't prove it answers NoAuthnContext."
        :disabled="readonly"
        :options="[
          ['', 'not asked'],
          ['exact', 'exactly one of these'],
          ['minimum', 'at least as strong as'],
          ['better', 'stronger than'],
          ['maximum', 'at most as strong as'],
        ]"
      />
      <TextBox
        v-if="comparison"
        v-model="classes"
        label="Contexts"
        hint="AuthnContextClassRef URIs, one a line."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <CommonOptions v-model="draft.saml!" :readonly="readonly" partner="the provider" />
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </form>
</template>
