<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { applicationConfig, type Application, type ApplicationConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { fieldsOf } from "../composables/fields";
import { useAct } from "../composables/load";
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
const f = fieldsOf(() => draft.value.oidc!);
const { error, offers, busy, act } = useAct();
const clientId = f.text("clientId"),
  redirects = f.lines("redirectUris"),
  postLogout = f.lines("postLogoutUris"),
  scopes = f.words("scopes"),
  jwks = f.text("jwks"),
  jwksUri = f.text("jwksUri");
const home = f.text("homePage"),
  privacy = f.text("privacy"),
  terms = f.text("terms"),
  initiate = f.text("initiateLoginUri"),
  back = f.text("backChannelLogoutUri"),
  front = f.text("frontChannelLogoutUri"),
  sector = f.text("sectorIdentifierUri");
const method = f.text("authentication"),
  algorithm = f.text("algorithm"),
  audience = f.text("audience"),
  origins = f.lines("origins");
const native = f.flag("native"),
  noPkce = f.flag("withoutPkce"),
  signed = f.flag("signedUserinfo"),
  inToken = f.flag("claimsInIdToken"),
  refresh = f.flag("refresh"),
  device = f.flag("deviceGrant"),
  introspection = f.flag("introspection"),
  consent = f.flag("consent");
const access = f.number("accessMinutes"),
  session = f.number("sessionHours"),
  offline = f.number("offlineDays");
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
        v-model="clientId"
        label="Client ID"
        hint="Ours to give; also called application ID."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="redirects"
        label="Redirect URIs"
        hint="Also called callback or return address. One a line; compared letter by letter."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <TextBox
        v-model="postLogout"
        label="Post-logout redirect URIs"
        hint="Where people may be sent when they have signed out. One a line."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <StartAddress v-model="draft" :readonly="readonly" />
      <CheckBox
        v-model="native"
        label="A program on people's own machines"
        hint="It takes its answer on a loopback address, on any port, and people confirm each sign-in."
        :disabled="readonly"
      />
      <SelectBox
        v-model="method"
        label="How the client proves who it is"
        hint="Only the one that is chosen here is taken."
        :disabled="readonly"
        :options="[
          ['client_secret_basic', 'a secret, in the header (client_secret_basic)'],
          ['client_secret_post', 'a secret, in the form (client_secret_post)'],
          ['private_key_jwt', 'a key of its own (private_key_jwt)'],
          ['none', 'not at all: a public client with PKCE'],
        ]"
      />
      <template v-if="method === 'private_key_jwt'"
        ><TextBox
          v-model="jwksUri"
          label="Address of its key set"
          hint="Better than a copy: it can change its keys by itself."
          mono
          :disabled="readonly" /><TextBox
          v-if="!jwksUri"
          v-model="jwks"
          label="Key set"
          hint="JSON with a list of keys (JWKS), public ones only."
          mono
          :rows="3"
          :disabled="readonly"
      /></template>
    </template>
    <template v-else>
      <TextBox
        v-model="sector"
        label="Sector identifier"
        hint="Only for applications on several hosts that must see the same identifier."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="scopes"
        label="Scopes that it may have"
        hint="openid, profile, email, address, phone, groups, offline_access. Each hands more on."
        mono
        :disabled="readonly"
      />
      <SelectBox
        v-model="algorithm"
        label="ID tokens are signed with"
        hint="RS256 is what every library knows; ES256 is shorter and faster."
        :disabled="readonly"
        :options="[
          ['RS256', 'RS256'],
          ['ES256', 'ES256'],
          ['PS256', 'PS256'],
          ['EdDSA', 'EdDSA'],
        ]"
      />
      <CheckBox
        v-model="inToken"
        label="Put the claims into the ID token"
        hint="Only for a client that never asks UserInfo."
        :disabled="readonly"
      />
      <CheckBox v-model="signed" label="Sign UserInfo" :disabled="readonly" />
      <CheckBox
        v-model="noPkce"
        label="Take requests without PKCE"
        hint="Only for a client with a secret or key that can't send a code challenge."
        :disabled="readonly"
      />
      <CheckBox
        v-model="consent"
        label="Ask people before anything is handed on"
        hint="For an application that is not the company's own. The page shows the addresses below."
        :disabled="readonly"
      />
      <TextBox v-model="home" label="Its home page" mono :disabled="readonly" /><TextBox
        v-model="privacy"
        label="Its privacy policy"
        mono
        :disabled="readonly"
      /><TextBox v-model="terms" label="Its terms of service" mono :disabled="readonly" />
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
        v-model="refresh"
        label="Give refresh tokens"
        hint="They end with the sign-in; with the scope offline_access they outlive it."
        :disabled="readonly"
      />
      <CheckBox
        v-model="device"
        label="Allow signing in on another device"
        hint="For devices without a browser. People can be talked into typing somebody else's code."
        :disabled="readonly"
      />
      <CheckBox v-model="introspection" label="May ask about access tokens" :disabled="readonly" />
      <TextBox
        v-model="audience"
        label="Audience of its access tokens"
        hint="Makes them signed tokens for this resource; empty for opaque ones, which only the gate can read."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="origins"
        label="Origins of its pages"
        hint="Only for pages that call our endpoints by script. One a line, such as https://ledger.saltmere.example"
        mono
        :rows="2"
        :disabled="readonly"
      />
      <TextBox
        v-model="initiate"
        label="Initiate login URI"
        hint="Where it begins a sign-in that the gate's tile asks for."
        mono
        :disabled="readonly"
      />
      <TextBox v-model="back" label="Back-channel logout URI" mono :disabled="readonly" /><TextBox
        v-model="front"
        label="Front-channel logout URI"
        mono
        :disabled="readonly"
      />
      <div class="three">
        <TextBox v-model="access" label="Access tokens, minutes" hint="usually 10" :disabled="readonly" /><TextBox
          v-model="session"
          label="Sign-in, hours"
          hint="usually 12"
          :disabled="readonly"
        /><TextBox v-model="offline" label="Offline access, days" hint="usually 60" :disabled="readonly" />
      </div>
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </form>
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 12px;
}
</style>
