<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { providerConfig, type Provider, type ProviderConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { useAct } from "../composables/load";
import CommonOptions from "./CommonOptions.vue";
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";

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
  <ElForm label-position="top" @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <ElFormItem label="Entity ID">
        <ElInput v-model="saml.entityId" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Also called issuer, IdP identifier. Compared letter by letter.</small>
      </ElFormItem>
      <ElFormItem label="SSO URL for HTTP-Redirect">
        <ElInput v-model="redirect" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Also called login URL, sign-in address.</small>
      </ElFormItem>
      <ElFormItem label="SSO URL for HTTP-POST">
        <ElInput v-model="post" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Certificates">
        <ElInput
          v-model="certificates"
          :disabled="readonly"
          type="textarea"
          :rows="4"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>PEM. A signature by any of their keys is accepted.</small>
      </ElFormItem>
    </template>
    <template v-else-if="part === 'matching'">
      <ElFormItem label="Attribute that identifies a person">
        <ElInput v-model="saml.subjectFrom" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Only where the provider sends no useful NameID.</small>
      </ElFormItem>
    </template>
    <template v-else>
      <ElFormItem label="NameID format that we ask for">
        <ElSelect v-model="saml.nameIdFormat" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['', 'none in particular'],
              ['urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', 'persistent'],
              ['urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress', 'emailAddress'],
              ['urn:oasis:names:tc:SAML:2.0:nameid-format:transient', 'transient'],
              ['urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified', 'unspecified'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>Persistent is best for knowing people again; none where the provider refuses every wish.</small>
      </ElFormItem>
      <ElFormItem label="We send requests by">
        <ElSelect v-model="saml.requestBinding" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['HTTP-Redirect', 'HTTP-Redirect'],
              ['HTTP-POST', 'HTTP-POST'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>Redirect is shorter; POST where the provider says so, or where requests are very long.</small>
      </ElFormItem>
      <ElCheckbox v-model="saml.sendUnsigned" :disabled="readonly"
        ><b>Leave our requests unsigned</b><small>Only for a provider that can't take signed ones.</small></ElCheckbox
      >
      <ElCheckbox v-model="saml.wantAssertionSigned" :disabled="readonly"
        ><b>The assertion itself must be signed</b><small>Without it a signed response is enough.</small></ElCheckbox
      >
      <ElCheckbox v-model="saml.forceAuthn" :disabled="readonly"
        ><b>Always ask for a fresh sign-in</b
        ><small>ForceAuthn: people enter their password again although the provider knows them.</small></ElCheckbox
      >
      <ElCheckbox v-model="saml.allowUnsolicited" :disabled="readonly"
        ><b>Accept sign-ins that the provider began</b
        ><small
          >Needed for IdP-initiated sign-in. Anybody can then be signed in by a link; leave it off unless it is
          wanted.</small
        ></ElCheckbox
      >
      <ElCheckbox v-model="saml.allowCbc" :disabled="readonly"
        ><b>Accept AES-CBC</b
        ><small>Only for a provider that knows nothing else, and only under a signed response.</small></ElCheckbox
      >
      <ElFormItem label="We ask for answers by">
        <ElSelect v-model="saml.responseBinding" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['HTTP-POST', 'HTTP-POST'],
              ['HTTP-Artifact', 'HTTP-Artifact'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small
          >By artifact the answer itself never passes the browser; we fetch it from the provider. Both servers must
          reach each other.</small
        >
      </ElFormItem>
      <ElFormItem v-if="saml.responseBinding === 'HTTP-Artifact'" label="Artifact resolution URL">
        <ElInput v-model="artifact" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="How strongly people must sign in there">
        <ElSelect v-model="comparison" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['', 'not asked'],
              ['exact', 'exactly one of these'],
              ['minimum', 'at least as strong as'],
              ['better', 'stronger than'],
              ['maximum', 'at most as strong as'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>Asked in each request. A provider that can't prove it answers NoAuthnContext.</small>
      </ElFormItem>
      <ElFormItem v-if="comparison" label="Contexts">
        <ElInput
          v-model="classes"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>AuthnContextClassRef URIs, one a line.</small>
      </ElFormItem>
      <CommonOptions v-model="draft.saml!" :readonly="readonly" partner="the provider" />
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </ElForm>
</template>
