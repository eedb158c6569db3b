<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { applicationConfig, type Application, type ApplicationConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { useAct } from "../composables/load";
import CommonOptions from "./CommonOptions.vue";
import CheckBox from "./CheckBox.vue";
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";
import SelectBox from "./SelectBox.vue";
import StartAddress from "./StartAddress.vue";
import TextBox from "./TextBox.vue";

const props = defineProps<{
  application: Application;
  part: "values" | "options";
  readonly?: boolean;
  save: (change: (held: ApplicationConfig) => ApplicationConfig) => Promise<void>;
}>();
const { draft, merged } = useDraft(() => applicationConfig(props.application));
const saml = computed(() => draft.value.saml!);
const { error, offers, busy, act } = useAct();

const acs = computed({
  get: () => (saml.value.acs ?? []).map((e) => e.location).join("\n"),
  set: (text: string) => {
    const held = saml.value.acs ?? [];
    saml.value.acs = text
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean)
      .map(
        (location, i) =>
          held.find((e) => e.location === location) ?? {
            service: "AssertionConsumerService",
            binding: "HTTP-POST",
            location,
            index: null,
            default: i === 0 && !held.length,
          },
      );
  },
});
const certificates = computed({
  get: () => (saml.value.certificates ?? []).map((c) => c.pem.trim()).join("\n"),
  set: (text: string) => {
    const held = saml.value.certificates ?? [];
    const blocks =
      text.match(/-----BEGIN CERTIFICATE-----[\s\S]*?-----END CERTIFICATE-----/g) ?? (text.trim() ? [text.trim()] : []);
    saml.value.certificates = blocks.map((pem) => held.find((c) => c.pem.trim() === pem) ?? { pem });
  },
});
const deepLinks = computed({
  get: () => (saml.value.deepLinks ?? []).join("\n"),
  set: (t: string) =>
    (saml.value.deepLinks = t
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean)),
});
const contentEncryption = computed({
  get: () => saml.value.contentEncryption ?? "",
  set: (v: string) => (saml.value.contentEncryption = v || undefined),
});
const keyTransport = computed({
  get: () => saml.value.keyTransport ?? "",
  set: (v: string) => (saml.value.keyTransport = v || undefined),
});
const contexts = computed({
  get: () => (draft.value.contexts === "demand" ? "" : (draft.value.contexts ?? "")),
  set: (v: string) => (draft.value.contexts = v || undefined),
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
        hint="Also called SP entity ID, audience, identifier. Compared letter by letter."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="acs"
        label="ACS URLs"
        hint="Also called return address or assertion consumer service. One a line."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <StartAddress v-model="draft" :readonly="readonly" />
      <TextBox
        v-model="certificates"
        label="Certificates"
        hint="PEM. They check its signed requests, and are encrypted to."
        mono
        :rows="4"
        :disabled="readonly"
      />
    </template>
    <template v-else>
      <SelectBox
        v-model="saml.sign"
        label="We sign"
        hint="Most applications want the assertion signed; some want the response, a few both."
        :disabled="readonly"
        :options="[
          ['assertion', 'the assertion'],
          ['response', 'the response'],
          ['both', 'both'],
        ]"
      />
      <SelectBox
        v-model="saml.encrypt"
        label="We encrypt"
        hint="Needed only where the assertion passes through hands that must not read it."
        :disabled="readonly"
        :options="[
          ['', 'nothing'],
          ['assertion', 'the assertion'],
          ['nameid', 'the NameID'],
        ]"
      />
      <template v-if="saml.encrypt">
        <SelectBox
          v-model="contentEncryption"
          label="Content encryption"
          hint="GCM protects against change as well; CBC only for an application that knows nothing else."
          :disabled="readonly"
          :options="[
            ['', 'AES-256-GCM'],
            ['http://www.w3.org/2009/xmlenc11#aes128-gcm', 'AES-128-GCM'],
            ['http://www.w3.org/2001/04/xmlenc#aes256-cbc', 'AES-256-CBC'],
            ['http://www.w3.org/2001/04/xmlenc#aes128-cbc', 'AES-128-CBC'],
          ]"
        />
        <SelectBox
          v-model="keyTransport"
          label="Key transport"
          hint="Every partner knows the first; the second only where it is demanded."
          :disabled="readonly"
          :options="[
            ['', 'RSA-OAEP (mgf1p)'],
            ['http://www.w3.org/2009/xmlenc11#rsa-oaep', 'RSA-OAEP with SHA-256'],
          ]"
        />
      </template>
      <CheckBox
        v-model="saml.requireSignedRequests"
        label="Refuse unsigned requests"
        hint="Switch on where the application signs its requests."
        :disabled="readonly"
      />
      <SelectBox
        v-model="contexts"
        label="The strength of sign-in that it asks for counts"
        hint="Many libraries demand a password context by default, which not every provider can say."
        :disabled="readonly"
        :options="[
          ['', 'as it says: what it demands must be proven'],
          ['prefer', 'asked for, and taken without it'],
          ['ignore', 'not at all'],
        ]"
      />
      <CheckBox
        v-model="saml.spInitiatedOnly"
        label="The application takes SP-initiated sign-in only"
        hint="Its tile then leads to its own start address."
        :disabled="readonly"
      />
      <TextBox
        v-model="saml.defaultRelayState"
        label="RelayState for sign-ins begun at the gate"
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="deepLinks"
        label="Deep links"
        hint="Beginnings of addresses that may be asked for, one a line."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <CommonOptions v-model="draft.saml!" :readonly="readonly" partner="the application" />
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </form>
</template>
