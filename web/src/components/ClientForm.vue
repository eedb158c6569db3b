<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { applicationConfig, type Application, type ApplicationConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { fieldsOf } from "../composables/fields";
import { useAct } from "../composables/load";
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
  <ElForm label-position="top" @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <ElFormItem label="Client ID">
        <ElInput v-model="clientId" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Ours to give; also called application ID.</small>
      </ElFormItem>
      <ElFormItem label="Redirect URIs">
        <ElInput
          v-model="redirects"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>Also called callback or return address. One a line; compared letter by letter.</small>
      </ElFormItem>
      <ElFormItem label="Post-logout redirect URIs">
        <ElInput
          v-model="postLogout"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>Where people may be sent when they have signed out. One a line.</small>
      </ElFormItem>
      <StartAddress v-model="draft" :readonly="readonly" />
      <ElCheckbox v-model="native" :disabled="readonly"
        ><b>A program on people's own machines</b
        ><small
          >It takes its answer on a loopback address, on any port, and people confirm each sign-in.</small
        ></ElCheckbox
      >
      <ElFormItem label="How the client proves who it is">
        <ElSelect v-model="method" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['client_secret_basic', 'a secret, in the header (client_secret_basic)'],
              ['client_secret_post', 'a secret, in the form (client_secret_post)'],
              ['private_key_jwt', 'a key of its own (private_key_jwt)'],
              ['none', 'not at all: a public client with PKCE'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>Only the one that is chosen here is taken.</small>
      </ElFormItem>
      <template v-if="method === 'private_key_jwt'">
        <ElFormItem label="Address of its key set">
          <ElInput v-model="jwksUri" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
          <small>Better than a copy: it can change its keys by itself.</small>
        </ElFormItem>
        <ElFormItem v-if="!jwksUri" label="Key set">
          <ElInput
            v-model="jwks"
            :disabled="readonly"
            type="textarea"
            :rows="3"
            class="mono"
            spellcheck="false"
            autocomplete="off"
          />
          <small>JSON with a list of keys (JWKS), public ones only.</small>
        </ElFormItem>
      </template>
    </template>
    <template v-else>
      <ElFormItem label="Sector identifier">
        <ElInput v-model="sector" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Only for applications on several hosts that must see the same identifier.</small>
      </ElFormItem>
      <ElFormItem label="Scopes that it may have">
        <ElInput v-model="scopes" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>openid, profile, email, address, phone, groups, offline_access. Each hands more on.</small>
      </ElFormItem>
      <ElFormItem label="ID tokens are signed with">
        <ElSelect v-model="algorithm" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['RS256', 'RS256'],
              ['ES256', 'ES256'],
              ['PS256', 'PS256'],
              ['EdDSA', 'EdDSA'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small>RS256 is what every library knows; ES256 is shorter and faster.</small>
      </ElFormItem>
      <ElCheckbox v-model="inToken" :disabled="readonly"
        ><b>Put the claims into the ID token</b><small>Only for a client that never asks UserInfo.</small></ElCheckbox
      >
      <ElCheckbox v-model="signed" :disabled="readonly">Sign UserInfo</ElCheckbox>
      <ElCheckbox v-model="noPkce" :disabled="readonly"
        ><b>Take requests without PKCE</b
        ><small>Only for a client with a secret or key that can't send a code challenge.</small></ElCheckbox
      >
      <ElCheckbox v-model="consent" :disabled="readonly"
        ><b>Ask people before anything is handed on</b
        ><small
          >For an application that is not the company's own. The page shows the addresses below.</small
        ></ElCheckbox
      >
      <ElFormItem label="Its home page">
        <ElInput v-model="home" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Its privacy policy">
        <ElInput v-model="privacy" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Its terms of service">
        <ElInput v-model="terms" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
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
      <ElCheckbox v-model="refresh" :disabled="readonly"
        ><b>Give refresh tokens</b
        ><small>They end with the sign-in; with the scope offline_access they outlive it.</small></ElCheckbox
      >
      <ElCheckbox v-model="device" :disabled="readonly"
        ><b>Allow signing in on another device</b
        ><small
          >For devices without a browser. People can be talked into typing somebody else's code.</small
        ></ElCheckbox
      >
      <ElCheckbox v-model="introspection" :disabled="readonly">May ask about access tokens</ElCheckbox>
      <ElFormItem label="Audience of its access tokens">
        <ElInput v-model="audience" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Makes them signed tokens for this resource; empty for opaque ones, which only the gate can read.</small>
      </ElFormItem>
      <ElFormItem label="Origins of its pages">
        <ElInput
          v-model="origins"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small
          >Only for pages that call our endpoints by script. One a line, such as https://ledger.saltmere.example</small
        >
      </ElFormItem>
      <ElFormItem label="Initiate login URI">
        <ElInput v-model="initiate" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Where it begins a sign-in that the gate's tile asks for.</small>
      </ElFormItem>
      <ElFormItem label="Back-channel logout URI">
        <ElInput v-model="back" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Front-channel logout URI">
        <ElInput v-model="front" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <div class="three">
        <ElFormItem label="Access tokens, minutes">
          <ElInput v-model="access" :disabled="readonly" autocomplete="off" />
          <small>usually 10</small>
        </ElFormItem>
        <ElFormItem label="Sign-in, hours">
          <ElInput v-model="session" :disabled="readonly" autocomplete="off" />
          <small>usually 12</small>
        </ElFormItem>
        <ElFormItem label="Offline access, days">
          <ElInput v-model="offline" :disabled="readonly" autocomplete="off" />
          <small>usually 60</small>
        </ElFormItem>
      </div>
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </ElForm>
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 12px;
}
</style>
