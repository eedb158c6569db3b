<script setup lang="ts">
import { computed } from "vue";
import CheckBox from "./CheckBox.vue";
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

type Watch = { url?: string; source?: string; policy?: string; certificate?: string; everyMinutes?: number };
type Options = {
  signatureAlgorithm?: string;
  digestAlgorithm?: string;
  clockSkewSeconds?: number;
  enforceCertificateDates?: boolean;
  allowSha1?: boolean;
  ownEntityId?: boolean;
  metadata?: Watch;
};
defineProps<{ readonly?: boolean; partner: string }>();
const saml = defineModel<Options>({ required: true });

const more = "http://www.w3.org/2001/04/xmldsig-more#";
const algorithms: [string, string][] = [
  ["", "as fits our key"],
  [`${more}rsa-sha256`, "RSA-SHA256"],
  [`${more}rsa-sha384`, "RSA-SHA384"],
  [`${more}rsa-sha512`, "RSA-SHA512"],
  [`${more}ecdsa-sha256`, "ECDSA-SHA256"],
  [`${more}ecdsa-sha384`, "ECDSA-SHA384"],
];
const digests: [string, string][] = [
  ["", "as the signature"],
  ["http://www.w3.org/2001/04/xmlenc#sha256", "SHA-256"],
  [`${more}sha384`, "SHA-384"],
  ["http://www.w3.org/2001/04/xmlenc#sha512", "SHA-512"],
];

const text = (get: () => string | undefined, set: (v: string) => void) => computed({ get: () => get() ?? "", set });
const algorithm = text(
  () => saml.value.signatureAlgorithm,
  (v) => (saml.value.signatureAlgorithm = v || undefined),
);
const digest = text(
  () => saml.value.digestAlgorithm,
  (v) => (saml.value.digestAlgorithm = v || undefined),
);
const skew = text(
  () => (saml.value.clockSkewSeconds ? String(saml.value.clockSkewSeconds) : ""),
  (v) => (saml.value.clockSkewSeconds = Number(v) || undefined),
);
const watch = <K extends keyof Watch>(key: K) =>
  computed({
    get: () => String(saml.value.metadata?.[key] ?? ""),
    set: (v: string) => {
      const next: Watch = { ...saml.value.metadata, [key]: v.trim() || undefined };
      saml.value.metadata = Object.values(next).some(Boolean) ? next : undefined;
    },
  });
const url = watch("url");
const policy = watch("policy");
const certificate = watch("certificate");
</script>

<template>
  <h3>Signatures and clocks</h3>
  <SelectBox
    v-model="algorithm"
    label="Signature algorithm"
    :hint="`Only where ${partner} demands one; it must fit the kind of our key.`"
    :options="algorithms"
    :disabled="readonly"
  />
  <SelectBox
    v-model="digest"
    label="Digest algorithm"
    hint="Some partners check it apart from the signature algorithm."
    :options="digests"
    :disabled="readonly"
  />
  <TextBox
    v-model="skew"
    type="number"
    label="Clock difference allowed, in seconds"
    hint="60 unless set. More lets old messages in for longer; better set the clock right."
    :disabled="readonly"
  />
  <CheckBox
    v-model="saml.enforceCertificateDates"
    label="Refuse signatures by expired certificates"
    hint="Without it the date is only a finding: what is trusted is the key."
    :disabled="readonly"
  />
  <CheckBox
    v-model="saml.allowSha1"
    label="Allow SHA-1"
    hint="Only for a partner that can't do better yet; it is a finding as long as it is on."
    :disabled="readonly"
  />
  <CheckBox
    v-model="saml.ownEntityId"
    label="An entity ID and addresses of our own"
    hint="Only where the partner demands that nobody else uses them. It changes what the partner must hold: hand over the sheet again."
    :disabled="readonly"
  />
  <h3>Metadata address</h3>
  <p v-if="saml.metadata?.source" class="soft">Its metadata comes from the source {{ saml.metadata.source }}.</p>
  <template v-else>
    <TextBox
      v-model="url"
      label="Address"
      hint="Looked at from time to time, by what the metadata itself says, every 6 hours otherwise."
      mono
      :disabled="readonly"
    />
    <TextBox
      v-model="certificate"
      label="Signed by"
      hint="PEM. With it, metadata that this key did not sign is refused, and new certificates in it can be taken unasked."
      mono
      :rows="3"
      :disabled="readonly"
    />
  </template>
  <SelectBox
    v-model="policy"
    label="What changed there"
    hint="Unsigned metadata asks unless you say otherwise: whoever controls the address could make us trust a key."
    :options="[
      ['', 'certificates if the signature is checked, else ask'],
      ['ask', 'always ask'],
      ['certificates', 'take certificates, ask about the rest'],
      ['apply', 'take everything at once'],
    ]"
    :disabled="readonly"
  />
</template>

<style scoped>
h3 {
  margin: 18px 0 8px;
}
</style>
