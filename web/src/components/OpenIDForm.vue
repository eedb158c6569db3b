<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { providerConfig, type Provider, type ProviderConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { fieldsOf } from "../composables/fields";
import { useAct } from "../composables/load";
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";

const props = defineProps<{
  provider: Provider;
  part: "values" | "options" | "matching";
  readonly?: boolean;
  save: (change: (held: ProviderConfig) => ProviderConfig) => Promise<void>;
}>();
const { draft, merged } = useDraft(() => providerConfig(props.provider));
const f = fieldsOf(() => draft.value.oidc!);
const { error, offers, busy, act } = useAct();
const plain = computed(() => draft.value.kind === "oauth2");
const issuer = f.text("issuer"),
  accepted = f.lines("acceptedIssuers"),
  authorization = f.text("authorizationEndpoint"),
  token = f.text("tokenEndpoint"),
  userinfo = f.text("userinfoEndpoint"),
  keys = f.text("jwksUri"),
  endSession = f.text("endSessionEndpoint"),
  signOut = f.text("signOutUrl");
const clientId = f.text("clientId"),
  method = f.text("authentication"),
  scopes = f.words("scopes"),
  algorithms = f.words("algorithms"),
  acr = f.lines("acrValues"),
  subject = f.text("subjectFrom"),
  skew = f.number("clockSkewSeconds");
const issuerInAnswer = f.flag("issuerInAnswer"),
  skip = f.flag("skipUserinfo"),
  form = f.flag("answerByForm"),
  fresh = f.flag("fresh");
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
  get: () =>
    Object.entries(draft.value.oidc!.parameters ?? {})
      .map(([k, v]) => `${k}=${v}`)
      .join("\n"),
  set: (text: string) => {
    const pairs = text
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean)
      .map((l) => [l.split("=")[0]!, l.split("=").slice(1).join("=")]);
    draft.value.oidc!.parameters = pairs.length ? Object.fromEntries(pairs) : undefined;
  },
});
const store = () => act(() => props.save(merged));
</script>

<template>
  <ElForm label-position="top" @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <ElFormItem label="Issuer">
        <ElInput v-model="issuer" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>{{
          plain
            ? "Only where its answers name one (iss); compared letter by letter."
            : "Compared letter by letter, a slash at the end included."
        }}</small>
      </ElFormItem>
      <template v-if="!plain">
        <ElFormItem label="Accepted issuers">
          <ElInput
            v-model="accepted"
            :disabled="readonly"
            type="textarea"
            :rows="2"
            class="mono"
            spellcheck="false"
            autocomplete="off"
          />
          <small>Only where the issuer differs by directory: those whose people may sign in, one a line.</small>
        </ElFormItem>
      </template>
      <ElFormItem label="Authorization endpoint">
        <ElInput v-model="authorization" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Where people are sent to sign in.</small>
      </ElFormItem>
      <ElFormItem label="Token endpoint">
        <ElInput v-model="token" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem :label="plain ? 'Address that tells who signed in' : 'UserInfo endpoint'">
        <ElInput v-model="userinfo" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem v-if="!plain" label="Key set (JWKS)">
        <ElInput v-model="keys" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Our client ID there">
        <ElInput v-model="clientId" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>As the provider gave it to us.</small>
      </ElFormItem>
      <ElFormItem label="How we prove who we are">
        <ElSelect v-model="method" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [
              ['', 'the first that the provider lists'],
              ['client_secret_basic', 'a secret, in the header (client_secret_basic)'],
              ['client_secret_post', 'a secret, in the form (client_secret_post)'],
              ['private_key_jwt', 'our key (private_key_jwt)'],
              ['none', 'not at all'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
        <small
          v-if="
            draft.oidc!.authMethods?.length ? `The provider lists ${draft.oidc!.authMethods.join(', ')}.` : undefined
          "
          >{{
            draft.oidc!.authMethods?.length ? `The provider lists ${draft.oidc!.authMethods.join(", ")}.` : undefined
          }}</small
        >
      </ElFormItem>
      <ElFormItem label="Scopes that we ask for">
        <ElInput v-model="scopes" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>{{ plain ? "As the provider names them." : "Empty for openid, profile and email." }}</small>
      </ElFormItem>
    </template>
    <template v-else-if="part === 'matching'">
      <ElFormItem label="Field that identifies a person">
        <ElInput v-model="subject" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>{{
          plain
            ? "The field of the answer that never changes and is never given to another, such as account.number."
            : "Only where sub is of no use."
        }}</small>
      </ElFormItem>
    </template>
    <template v-else>
      <ElFormItem label="Further addresses that tell about a person">
        <ElInput
          v-model="more"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small
          >One a line: a name, the address, and the members that must be true in a list. With mail https://… main its
          address becomes mail.address.</small
        >
      </ElFormItem>
      <ElCheckbox v-if="!plain" v-model="skip" :disabled="readonly"
        ><b>Leave UserInfo unasked</b><small>Where the ID token says enough.</small></ElCheckbox
      >
      <ElCheckbox v-model="issuerInAnswer" :disabled="readonly"
        ><b>Its answers must name it (iss)</b
        ><small
          >Taken from its discovery document. It keeps one provider's answer from being given out as another's.</small
        ></ElCheckbox
      >
      <ElCheckbox v-model="form" :disabled="readonly"
        ><b>It answers by form</b
        ><small>response_mode=form_post: the code never stands in an address.</small></ElCheckbox
      >
      <ElCheckbox v-if="!plain" v-model="fresh" :disabled="readonly"
        ><b>Always ask for a fresh sign-in</b
        ><small>prompt=login: people enter their password again although the provider knows them.</small></ElCheckbox
      >
      <ElFormItem v-if="!plain" label="How strongly people must sign in there">
        <ElInput
          v-model="acr"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>acr values to ask for, one a line. An application that demands others replaces them.</small>
      </ElFormItem>
      <ElFormItem v-if="!plain" label="ID tokens may be signed with">
        <ElInput v-model="algorithms" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Empty for all that the gate takes.</small>
      </ElFormItem>
      <ElFormItem label="Further parameters of each request">
        <ElInput
          v-model="parameters"
          :disabled="readonly"
          type="textarea"
          :rows="2"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
        <small>One a line, as name=value.</small>
      </ElFormItem>
      <ElFormItem v-if="!plain" label="End session endpoint">
        <ElInput v-model="endSession" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Where people are sent to sign out there; empty to leave them signed in.</small>
      </ElFormItem>
      <ElFormItem label="Plain sign-out address">
        <ElInput v-model="signOut" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Where it has no end session endpoint.</small>
      </ElFormItem>
      <ElFormItem label="Clock difference allowed, seconds">
        <ElInput v-model="skew" :disabled="readonly" autocomplete="off" />
        <small>usually 60</small>
      </ElFormItem>
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </ElForm>
</template>
