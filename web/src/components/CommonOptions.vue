<script setup lang="ts">
import { computed } from "vue";
import { digestAlgorithms, signatureAlgorithms } from "../composables/choices";
import { useEditing } from "../composables/edits";
import DraftField from "./DraftField.vue";

defineProps<{ partner: string }>();
const { draft } = useEditing<{ saml?: { metadata?: { source?: string } } }>();
const source = computed(() => draft.value.saml?.metadata?.source);
</script>

<template>
  <h3>Signatures and clocks</h3>
  <DraftField
    path="saml.signatureAlgorithm"
    label="Signature algorithm"
    as="choice"
    :options="signatureAlgorithms"
    :hint="`Only where ${partner} demands one; it must fit the kind of our key.`"
  />
  <DraftField
    path="saml.digestAlgorithm"
    label="Digest algorithm"
    as="choice"
    :options="digestAlgorithms"
    hint="Some partners check it apart from the signature algorithm."
  />
  <DraftField
    path="saml.clockSkewSeconds"
    label="Clock difference allowed, in seconds"
    as="number"
    hint="60 unless set. More lets old messages in for longer; better set the clock right."
  />
  <DraftField
    path="saml.enforceCertificateDates"
    label="Refuse signatures by expired certificates"
    as="check"
    hint="Without it the date is only a finding: what is trusted is the key."
  />
  <DraftField
    path="saml.allowSha1"
    label="Allow SHA-1"
    as="check"
    hint="Only for a partner that can't do better yet; it is a finding as long as it is on."
  />
  <DraftField
    path="saml.ownEntityId"
    label="An entity ID and addresses of our own"
    as="check"
    hint="Only where the partner demands that nobody else uses them. It changes what the partner must hold: hand over the
      sheet again."
  />
  <h3>Metadata address</h3>
  <p v-if="source" class="soft">Its metadata comes from the source {{ source }}.</p>
  <template v-else>
    <DraftField
      path="saml.metadata.url"
      label="Address"
      hint="Looked at from time to time, by what the metadata itself says, every 6 hours otherwise."
    />
    <DraftField
      path="saml.metadata.certificate"
      label="Signed by"
      as="area"
      plain
      :rows="3"
      hint="PEM. With it, metadata that this key did not sign is refused, and new certificates in it can be taken unasked."
    />
  </template>
  <DraftField
    path="saml.metadata.policy"
    label="What changed there"
    as="choice"
    :options="[
      ['', 'certificates if the signature is checked, else ask'],
      ['ask', 'always ask'],
      ['certificates', 'take certificates, ask about the rest'],
      ['apply', 'take everything at once'],
    ]"
    hint="Unsigned metadata asks unless you say otherwise: whoever controls the address could make us trust a key."
  />
</template>

<style scoped>
h3 {
  margin: 18px 0 8px;
}
</style>
