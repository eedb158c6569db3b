<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { providerConfig, type Provider, type ProviderConfig } from "../api/client";
import { useDraft } from "../composables/draft";
import { fieldsOf } from "../composables/fields";
import { useAct } from "../composables/load";
import CheckBox from "./CheckBox.vue";
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

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
  <form @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <TextBox
        v-model="issuer"
        label="Issuer"
        :hint="
          plain
            ? 'Only where its answers name one (iss); compared letter by letter.'
            : 'Compared letter by letter, a slash at the end included.'
        "
        mono
        :disabled="readonly"
      />
      <template v-if="!plain">
        <TextBox
          v-model="accepted"
          label="Accepted issuers"
          hint="Only where the issuer differs by directory: those whose people may sign in, one a line."
          mono
          :rows="2"
          :disabled="readonly"
        />
      </template>
      <TextBox
        v-model="authorization"
        label="Authorization endpoint"
        hint="Where people are sent to sign in."
        mono
        :disabled="readonly"
      />
      <TextBox v-model="token" label="Token endpoint" mono :disabled="readonly" />
      <TextBox
        v-model="userinfo"
        :label="plain ? 'Address that tells who signed in' : 'UserInfo endpoint'"
        mono
        :disabled="readonly"
      />
      <TextBox v-if="!plain" v-model="keys" label="Key set (JWKS)" mono :disabled="readonly" />
      <TextBox
        v-model="clientId"
        label="Our client ID there"
        hint="As the provider gave it to us."
        mono
        :disabled="readonly"
      />
      <SelectBox
        v-model="method"
        label="How we prove who we are"
        :hint="
          draft.oidc!.authMethods?.length ? `The provider lists ${draft.oidc!.authMethods.join(', ')}.` : undefined
        "
        :disabled="readonly"
        :options="[
          ['', 'the first that the provider lists'],
          ['client_secret_basic', 'a secret, in the header (client_secret_basic)'],
          ['client_secret_post', 'a secret, in the form (client_secret_post)'],
          ['private_key_jwt', 'our key (private_key_jwt)'],
          ['none', 'not at all'],
        ]"
      />
      <TextBox
        v-model="scopes"
        label="Scopes that we ask for"
        :hint="plain ? 'As the provider names them.' : 'Empty for openid, profile and email.'"
        mono
        :disabled="readonly"
      />
    </template>
    <template v-else-if="part === 'matching'">
      <TextBox
        v-model="subject"
        label="Field that identifies a person"
        :hint="
          plain
            ? 'The field of the answer that never changes and is never given to another, such as account.number.'
            : 'Only where sub is of no use.'
        "
        mono
        :disabled="readonly"
      />
    </template>
    <template v-else>
      <TextBox
        v-model="more"
        label="Further addresses that tell about a person"
        hint="One a line: a name, the address, and the members that must be true in a list. With mail https://… main its address becomes mail.address."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <CheckBox
        v-if="!plain"
        v-model="skip"
        label="Leave UserInfo unasked"
        hint="Where the ID token says enough."
        :disabled="readonly"
      />
      <CheckBox
        v-model="issuerInAnswer"
        label="Its answers must name it (iss)"
        hint="Taken from its discovery document. It keeps one provider's answer from being given out as another's."
        :disabled="readonly"
      />
      <CheckBox
        v-model="form"
        label="It answers by form"
        hint="response_mode=form_post: the code never stands in an address."
        :disabled="readonly"
      />
      <CheckBox
        v-if="!plain"
        v-model="fresh"
        label="Always ask for a fresh sign-in"
        hint="prompt=login: people enter their password again although the provider knows them."
        :disabled="readonly"
      />
      <TextBox
        v-if="!plain"
        v-model="acr"
        label="How strongly people must sign in there"
        hint="acr values to ask for, one a line. An application that demands others replaces them."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <TextBox
        v-if="!plain"
        v-model="algorithms"
        label="ID tokens may be signed with"
        hint="Empty for all that the gate takes."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="parameters"
        label="Further parameters of each request"
        hint="One a line, as name=value."
        mono
        :rows="2"
        :disabled="readonly"
      />
      <TextBox
        v-if="!plain"
        v-model="endSession"
        label="End session endpoint"
        hint="Where people are sent to sign out there; empty to leave them signed in."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="signOut"
        label="Plain sign-out address"
        hint="Where it has no end session endpoint."
        mono
        :disabled="readonly"
      />
      <TextBox v-model="skew" label="Clock difference allowed, seconds" hint="usually 60" :disabled="readonly" />
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </form>
</template>
