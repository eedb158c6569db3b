<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { applicationConfig, type Application, type ApplicationConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { useAct } from "../composables/load";
import CommonOptions from "./CommonOptions.vue";
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";
import StartAddress from "./StartAddress.vue";

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
  <ElForm label-position="top" @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <ElFormItem label="Entity ID">
        <ElInput v-model="saml.entityId" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Also called SP entity ID, audience, identifier. Compared letter by letter.</small>
      </ElFormItem>
      <ElFormItem label="ACS URLs">
        <ElInput
          v-model="acs"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>Also called return address or assertion consumer service. One a line.</small>
      </ElFormItem>
      <StartAddress v-model="draft" :readonly="readonly" />
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
        <small>PEM. They check its signed requests, and are encrypted to.</small>
      </ElFormItem>
    </template>
    <template v-else>
      <ElFormItem label="We sign">
        <ElSelect v-model="saml.sign" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['assertion', 'the assertion'],
              ['response', 'the response'],
              ['both', 'both'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>Most applications want the assertion signed; some want the response, a few both.</small>
      </ElFormItem>
      <ElFormItem label="We encrypt">
        <ElSelect v-model="saml.encrypt" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['', 'nothing'],
              ['assertion', 'the assertion'],
              ['nameid', 'the NameID'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>Needed only where the assertion passes through hands that must not read it.</small>
      </ElFormItem>
      <template v-if="saml.encrypt">
        <ElFormItem label="Content encryption">
          <ElSelect v-model="contentEncryption" :disabled="readonly">
            <ElOption
              v-for="[value, text] in [
                ['', 'AES-256-GCM'],
                ['http://www.w3.org/2009/xmlenc11#aes128-gcm', 'AES-128-GCM'],
                ['http://www.w3.org/2001/04/xmlenc#aes256-cbc', 'AES-256-CBC'],
                ['http://www.w3.org/2001/04/xmlenc#aes128-cbc', 'AES-128-CBC'],
              ]"
              :key="value"
              :value="value"
              :label="text"
            />
          </ElSelect>
          <small>GCM protects against change as well; CBC only for an application that knows nothing else.</small>
        </ElFormItem>
        <ElFormItem label="Key transport">
          <ElSelect v-model="keyTransport" :disabled="readonly">
            <ElOption
              v-for="[value, text] in [
                ['', 'RSA-OAEP (mgf1p)'],
                ['http://www.w3.org/2009/xmlenc11#rsa-oaep', 'RSA-OAEP with SHA-256'],
              ]"
              :key="value"
              :value="value"
              :label="text"
            />
          </ElSelect>
          <small>Every partner knows the first; the second only where it is demanded.</small>
        </ElFormItem>
      </template>
      <ElCheckbox v-model="saml.requireSignedRequests" :disabled="readonly"
        ><b>Refuse unsigned requests</b><small>Switch on where the application signs its requests.</small></ElCheckbox
      >
      <ElFormItem label="The strength of sign-in that it asks for counts">
        <ElSelect v-model="contexts" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['', 'as it says: what it demands must be proven'],
              ['prefer', 'asked for, and taken without it'],
              ['ignore', 'not at all'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>Many libraries demand a password context by default, which not every provider can say.</small>
      </ElFormItem>
      <ElCheckbox v-model="saml.spInitiatedOnly" :disabled="readonly"
        ><b>The application takes SP-initiated sign-in only</b
        ><small>Its tile then leads to its own start address.</small></ElCheckbox
      >
      <ElFormItem label="RelayState for sign-ins begun at the gate">
        <ElInput
          v-model="saml.defaultRelayState"
          :disabled="readonly"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
      </ElFormItem>
      <ElFormItem label="Deep links">
        <ElInput
          v-model="deepLinks"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>Beginnings of addresses that may be asked for, one a line.</small>
      </ElFormItem>
      <CommonOptions v-model="draft.saml!" :readonly="readonly" partner="the application" />
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </ElForm>
</template>
