<script setup lang="ts">
import { computed } from "vue";

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
  <ElFormItem label="Signature algorithm">
    <ElSelect v-model="algorithm" :disabled="readonly">
      <ElOption v-for="[option, words] in algorithms" :key="option" :value="option" :label="words" />
    </ElSelect>
    <small v-if="`Only where ${partner} demands one; it must fit the kind of our key.`">{{
      `Only where ${partner} demands one; it must fit the kind of our key.`
    }}</small>
  </ElFormItem>
  <ElFormItem label="Digest algorithm">
    <ElSelect v-model="digest" :disabled="readonly">
      <ElOption v-for="[option, words] in digests" :key="option" :value="option" :label="words" />
    </ElSelect>
    <small>Some partners check it apart from the signature algorithm.</small>
  </ElFormItem>
  <ElFormItem label="Clock difference allowed, in seconds">
    <ElInput v-model="skew" :disabled="readonly" type="number" autocomplete="off" />
    <small>60 unless set. More lets old messages in for longer; better set the clock right.</small>
  </ElFormItem>
  <ElCheckbox v-model="saml.enforceCertificateDates" :disabled="readonly"
    ><b>Refuse signatures by expired certificates</b
    ><small>Without it the date is only a finding: what is trusted is the key.</small></ElCheckbox
  >
  <ElCheckbox v-model="saml.allowSha1" :disabled="readonly"
    ><b>Allow SHA-1</b
    ><small>Only for a partner that can't do better yet; it is a finding as long as it is on.</small></ElCheckbox
  >
  <ElCheckbox v-model="saml.ownEntityId" :disabled="readonly"
    ><b>An entity ID and addresses of our own</b
    ><small
      >Only where the partner demands that nobody else uses them. It changes what the partner must hold: hand over the
      sheet again.</small
    ></ElCheckbox
  >
  <h3>Metadata address</h3>
  <p v-if="saml.metadata?.source" class="soft">Its metadata comes from the source {{ saml.metadata.source }}.</p>
  <template v-else>
    <ElFormItem label="Address">
      <ElInput v-model="url" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      <small>Looked at from time to time, by what the metadata itself says, every 6 hours otherwise.</small>
    </ElFormItem>
    <ElFormItem label="Signed by">
      <ElInput
        v-model="certificate"
        :disabled="readonly"
        type="textarea"
        :rows="3"
        class="mono"
        spellcheck="false"
        autocomplete="off"
      />
      <small
        >PEM. With it, metadata that this key did not sign is refused, and new certificates in it can be taken
        unasked.</small
      >
    </ElFormItem>
  </template>
  <ElFormItem label="What changed there">
    <ElSelect v-model="policy" :disabled="readonly">
      <ElOption
        v-for="[option, words] in [
          ['', 'certificates if the signature is checked, else ask'],
          ['ask', 'always ask'],
          ['certificates', 'take certificates, ask about the rest'],
          ['apply', 'take everything at once'],
        ]"
        :key="option"
        :value="option"
        :label="words"
      />
    </ElSelect>
    <small
      >Unsigned metadata asks unless you say otherwise: whoever controls the address could make us trust a key.</small
    >
  </ElFormItem>
</template>

<style scoped>
h3 {
  margin: 18px 0 8px;
}
</style>
