<script setup lang="ts">
import { computed } from "vue";
import type { ApplicationConfig } from "../api/client";
import { asChoices, clientProofs, type Choice } from "../composables/choices";
import { useEditing } from "../composables/edits";
import ContextWishes from "./ContextWishes.vue";
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";
import StartAddress from "./StartAddress.vue";

defineProps<{ part: "values" | "options" }>();
const { draft } = useEditing<ApplicationConfig>();
const proofs: Choice[] = [
  ...clientProofs,
  ["private_key_jwt", "a key of its own (private_key_jwt)"],
  ["none", "not at all: a public client with PKCE"],
];
const byKey = computed(() => draft.value.oidc?.authentication === "private_key_jwt");
</script>

<template>
  <template v-if="part === 'values'">
    <CommonValues />
    <DraftField path="oidc.clientId" label="Client ID" hint="Ours to give; also called application ID." />
    <DraftField
      path="oidc.redirectUris"
      label="Redirect URIs"
      as="list"
      hint="Also called callback or return address; compared letter by letter."
    />
    <DraftField
      path="oidc.postLogoutUris"
      label="Post-logout redirect URIs"
      as="list"
      hint="Where people may be sent when they have signed out."
    />
    <StartAddress />
    <DraftField
      path="oidc.native"
      label="A program on people's own machines"
      as="check"
      hint="It takes its answer on a loopback address, on any port, and people confirm each sign-in."
    />
    <DraftField
      path="oidc.authentication"
      label="How the client proves who it is"
      as="choice"
      :options="proofs"
      hint="Only the one that is chosen here is taken."
    />
    <template v-if="byKey">
      <DraftField
        path="oidc.jwksUri"
        label="Address of its key set"
        hint="Better than a copy: it can change its keys by itself."
      />
      <DraftField
        v-if="!draft.oidc?.jwksUri"
        path="oidc.jwks"
        label="Key set"
        as="area"
        :rows="3"
        hint="JSON with a list of keys (JWKS), public ones only."
      />
    </template>
  </template>
  <template v-else>
    <DraftField
      path="oidc.sectorIdentifierUri"
      label="Sector identifier"
      hint="Only for applications on several hosts that must see the same identifier."
    />
    <DraftField
      path="oidc.scopes"
      label="Scopes that it may have"
      as="list"
      hint="openid, profile, email, address, phone, groups, offline_access. Each hands more on."
    />
    <DraftField
      path="oidc.algorithm"
      label="ID tokens are signed with"
      as="choice"
      :options="asChoices(['RS256', 'ES256', 'PS256', 'EdDSA'])"
      hint="RS256 is what every library knows; ES256 is shorter and faster."
    />
    <DraftField
      path="oidc.claimsInIdToken"
      label="Put the claims into the ID token"
      as="check"
      hint="Only for a client that never asks UserInfo."
    />
    <DraftField path="oidc.signedUserinfo" label="Sign UserInfo" as="check" />
    <DraftField
      path="oidc.withoutPkce"
      label="Take requests without PKCE"
      as="check"
      hint="Only for a client with a secret or key that can't send a code challenge."
    />
    <DraftField
      path="oidc.consent"
      label="Ask people before anything is handed on"
      as="check"
      hint="For an application that is not the company's own. The page shows the addresses below."
    />
    <DraftField path="oidc.homePage" label="Its home page" />
    <DraftField path="oidc.privacy" label="Its privacy policy" />
    <DraftField path="oidc.terms" label="Its terms of service" />
    <ContextWishes />
    <DraftField
      path="oidc.refresh"
      label="Give refresh tokens"
      as="check"
      hint="They end with the sign-in; with the scope offline_access they outlive it."
    />
    <DraftField
      path="oidc.deviceGrant"
      label="Allow signing in on another device"
      as="check"
      hint="For devices without a browser. People can be talked into typing somebody else's code."
    />
    <DraftField path="oidc.introspection" label="May ask about access tokens" as="check" />
    <DraftField
      path="oidc.audience"
      label="Audience of its access tokens"
      hint="Makes them signed tokens for this resource; empty for opaque ones, which only the gate can read."
    />
    <DraftField
      path="oidc.origins"
      label="Origins of its pages"
      as="list"
      hint="Only for pages that call our endpoints by script, such as https://ledger.saltmere.example"
    />
    <DraftField
      path="oidc.initiateLoginUri"
      label="Initiate login URI"
      hint="Where it begins a sign-in that the gate's tile asks for."
    />
    <DraftField path="oidc.backChannelLogoutUri" label="Back-channel logout URI" />
    <DraftField path="oidc.frontChannelLogoutUri" label="Front-channel logout URI" />
    <div class="three">
      <DraftField path="oidc.accessMinutes" label="Access tokens, minutes" as="number" hint="usually 10" />
      <DraftField path="oidc.sessionHours" label="Sign-in, hours" as="number" hint="usually 12" />
      <DraftField path="oidc.offlineDays" label="Offline access, days" as="number" hint="usually 60" />
    </div>
  </template>
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(12rem, 1fr));
  gap: 12px;
}
</style>
