<script setup lang="ts">
import { computed } from "vue";
import type { ProviderConfig } from "../api/client";
import { clientProofs, type Choice } from "../composables/choices";
import { useEditing } from "../composables/edits";
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";

defineProps<{ part: "values" | "options" | "matching" }>();
const { draft } = useEditing<ProviderConfig>();
const plain = computed(() => draft.value.kind === "oauth2");
const proofs: Choice[] = [
  ["", "the first that the provider lists"],
  ...clientProofs,
  ["private_key_jwt", "our key (private_key_jwt)"],
  ["none", "not at all"],
];
const listed = computed(() => {
  const methods = draft.value.oidc?.authMethods ?? [];
  return methods.length ? `The provider lists ${methods.join(", ")}.` : undefined;
});
// Lines such as "mail https://… main", which a list of entries would need three fields for.
const more = computed({
  get: () => (draft.value.oidc!.more ?? []).map((m) => [m.as, m.url, ...(m.where ?? [])].join(" ")).join("\n"),
  set: (text: string) => {
    const list = text
      .split("\n")
      .map((l) => l.trim().split(/\s+/))
      .filter((w) => w[0]);
    draft.value.oidc!.more = list.length
      ? list.map(([as, url, ...where]) => ({ as: as!, url: url ?? "", where: where.length ? where : undefined }))
      : undefined;
  },
});
const parameters = computed({
  get: () => Object.entries(draft.value.oidc!.parameters ?? {}).map(([k, v]) => `${k}=${v}`),
  set: (lines: string[]) => {
    const pairs = lines.map((l) => [l.split("=")[0]!, l.split("=").slice(1).join("=")]);
    draft.value.oidc!.parameters = pairs.length ? Object.fromEntries(pairs) : undefined;
  },
});
</script>

<template>
  <template v-if="part === 'values'">
    <CommonValues />
    <DraftField
      path="oidc.issuer"
      label="Issuer"
      :hint="
        plain
          ? 'Only where its answers name one (iss); compared letter by letter.'
          : 'Compared letter by letter, a slash at the end included.'
      "
    />
    <DraftField
      v-if="!plain"
      path="oidc.acceptedIssuers"
      label="Accepted issuers"
      as="list"
      hint="Only where the issuer differs by directory: those whose people may sign in."
    />
    <DraftField
      path="oidc.authorizationEndpoint"
      label="Authorization endpoint"
      hint="Where people are sent to sign in."
    />
    <DraftField path="oidc.tokenEndpoint" label="Token endpoint" />
    <DraftField
      path="oidc.userinfoEndpoint"
      :label="plain ? 'Address that tells who signed in' : 'UserInfo endpoint'"
    />
    <DraftField v-if="!plain" path="oidc.jwksUri" label="Key set (JWKS)" />
    <DraftField path="oidc.clientId" label="Our client ID there" hint="As the provider gave it to us." />
    <DraftField
      path="oidc.authentication"
      label="How we prove who we are"
      as="choice"
      :options="proofs"
      :hint="listed"
    />
    <DraftField
      path="oidc.scopes"
      label="Scopes that we ask for"
      as="list"
      :hint="plain ? 'As the provider names them.' : 'Empty for openid, profile and email.'"
    />
  </template>
  <DraftField
    v-else-if="part === 'matching'"
    path="oidc.subjectFrom"
    label="Field that identifies a person"
    :hint="
      plain
        ? 'The field of the answer that never changes and is never given to another, such as account.number.'
        : 'Only where sub is of no use.'
    "
  />
  <template v-else>
    <DraftField
      v-model="more"
      path="oidc.more"
      label="Further addresses that tell about a person"
      as="area"
      plain
      hint="One a line: a name, the address, and the members that must be true in a list. With mail https://… main its
        address becomes mail.address."
    />
    <DraftField
      v-if="!plain"
      path="oidc.skipUserinfo"
      label="Leave UserInfo unasked"
      as="check"
      hint="Where the ID token says enough."
    />
    <DraftField
      path="oidc.issuerInAnswer"
      label="Its answers must name it (iss)"
      as="check"
      hint="Taken from its discovery document. It keeps one provider's answer from being given out as another's."
    />
    <DraftField
      path="oidc.answerByForm"
      label="It answers by form"
      as="check"
      hint="response_mode=form_post: the code never stands in an address."
    />
    <DraftField
      v-if="!plain"
      path="oidc.fresh"
      label="Always ask for a fresh sign-in"
      as="check"
      hint="prompt=login: people enter their password again although the provider knows them."
    />
    <DraftField
      v-if="!plain"
      path="oidc.acrValues"
      label="How strongly people must sign in there"
      as="list"
      hint="acr values to ask for. An application that demands others replaces them."
    />
    <DraftField
      v-if="!plain"
      path="oidc.algorithms"
      label="ID tokens may be signed with"
      as="list"
      hint="Empty for all that the gate takes."
    />
    <DraftField
      v-model="parameters"
      path="oidc.parameters"
      label="Further parameters of each request"
      as="list"
      hint="Each as name=value."
    />
    <DraftField
      v-if="!plain"
      path="oidc.endSessionEndpoint"
      label="End session endpoint"
      hint="Where people are sent to sign out there; empty to leave them signed in."
    />
    <DraftField path="oidc.signOutUrl" label="Plain sign-out address" hint="Where it has no end session endpoint." />
    <DraftField path="oidc.clockSkewSeconds" label="Clock difference allowed, seconds" as="number" hint="usually 60" />
  </template>
</template>
