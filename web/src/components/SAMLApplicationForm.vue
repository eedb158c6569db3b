<script setup lang="ts">
import { computed } from "vue";
import type { ApplicationConfig } from "../api/client";
import { contentEncryptions, keyTransports } from "../composables/choices";
import { useEditing } from "../composables/edits";
import { certificatesIn, certificateText } from "../composables/saml";
import CommonOptions from "./CommonOptions.vue";
import ContextWishes from "./ContextWishes.vue";
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";
import StartAddress from "./StartAddress.vue";

defineProps<{ part: "values" | "options" }>();
const { draft } = useEditing<ApplicationConfig>();
const saml = computed(() => draft.value.saml!);
const acs = computed({
  get: () => (saml.value.acs ?? []).map((e) => e.location),
  set: (locations: string[]) => {
    const held = saml.value.acs ?? [];
    saml.value.acs = locations.map(
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
  get: () => certificateText(saml.value.certificates),
  set: (text: string) =>
    (saml.value.certificates = certificatesIn(text, saml.value.certificates ?? [], (pem) => ({ pem }))),
});
</script>

<template>
  <template v-if="part === 'values'">
    <CommonValues />
    <DraftField
      path="saml.entityId"
      label="Entity ID"
      hint="Also called SP entity ID, audience, identifier. Compared letter by letter."
    />
    <DraftField
      v-model="acs"
      path="saml.acs"
      label="ACS URLs"
      as="list"
      hint="Also called return address or assertion consumer service."
    />
    <StartAddress />
    <DraftField
      v-model="certificates"
      path="saml.certificates"
      label="Certificates"
      as="area"
      plain
      :rows="4"
      hint="PEM. They check its signed requests, and are encrypted to."
    />
  </template>
  <template v-else>
    <DraftField
      path="saml.sign"
      label="We sign"
      as="choice"
      :options="[
        ['assertion', 'the assertion'],
        ['response', 'the response'],
        ['both', 'both'],
      ]"
      hint="Most applications want the assertion signed; some want the response, a few both."
    />
    <DraftField
      path="saml.encrypt"
      label="We encrypt"
      as="choice"
      :options="[
        ['', 'nothing'],
        ['assertion', 'the assertion'],
        ['nameid', 'the NameID'],
      ]"
      hint="Needed only where the assertion passes through hands that must not read it."
    />
    <template v-if="saml.encrypt">
      <DraftField
        path="saml.contentEncryption"
        label="Content encryption"
        as="choice"
        :options="contentEncryptions"
        hint="GCM protects against change as well; CBC only for an application that knows nothing else."
      />
      <DraftField
        path="saml.keyTransport"
        label="Key transport"
        as="choice"
        :options="keyTransports"
        hint="Every partner knows the first; the second only where it is demanded."
      />
    </template>
    <DraftField
      path="saml.requireSignedRequests"
      label="Refuse unsigned requests"
      as="check"
      hint="Switch on where the application signs its requests."
    />
    <ContextWishes />
    <DraftField
      path="saml.spInitiatedOnly"
      label="The application takes SP-initiated sign-in only"
      as="check"
      hint="Its tile then leads to its own start address."
    />
    <DraftField path="saml.defaultRelayState" label="RelayState for sign-ins begun at the gate" />
    <DraftField
      path="saml.deepLinks"
      label="Deep links"
      as="list"
      hint="Beginnings of addresses that may be asked for."
    />
    <CommonOptions partner="the application" />
  </template>
</template>
