<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { providerConfig, type Provider, type ProviderConfig } from "../api/client";
import { useAct } from "../composables/load";
import CommonValues from "./CommonValues.vue";
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

const props = defineProps<{
  provider: Provider;
  readonly?: boolean;
  save: (change: (held: ProviderConfig) => ProviderConfig) => Promise<void>;
}>();
const draft = ref<ProviderConfig>(providerConfig(props.provider));
const factor = ref("offered");
const passkeys = ref("alone");
const help = ref("");
watch(
  () => JSON.stringify(props.provider),
  () => {
    draft.value = providerConfig(props.provider);
    factor.value = props.provider.directory?.secondFactor ?? "offered";
    passkeys.value = props.provider.directory?.passkeys ?? "alone";
    help.value = props.provider.directory?.help ?? "";
  },
  { immediate: true },
);
const { error, busy, act } = useAct();
const store = () =>
  act(() =>
    props.save((held) => ({
      ...held,
      name: draft.value.name,
      description: draft.value.description,
      contact: draft.value.contact,
      tags: draft.value.tags,
      directory: {
        ...held.directory,
        secondFactor: factor.value,
        passkeys: passkeys.value,
        help: help.value.trim() || undefined,
      },
    })),
  );
</script>

<template>
  <form @submit.prevent="store">
    <h2>The gate's own people</h2>
    <p class="soft">
      Whoever has a name in the gate's own directory signs in here with a password.
      <RouterLink to="/people">People</RouterLink> get that name on their page, and a link with which they set the
      password.
    </p>
    <CommonValues v-model="draft" :readonly />
    <SelectBox
      v-model="factor"
      label="Second factor"
      :options="[
        ['offered', 'asked of those who have one'],
        ['required', 'required: who has none sets one up at the next sign-in'],
      ]"
      :disabled="readonly"
    />
    <SelectBox
      v-model="passkeys"
      label="Passkeys"
      hint="A passkey belongs to this gate's host name. Alone, it stands for name, password and second factor together, and the device checks that it is its owner who uses it."
      :options="[
        ['alone', 'as the second factor, or alone'],
        ['second', 'as the second factor'],
        ['off', 'no new ones are set up'],
      ]"
      :disabled="readonly"
    />
    <TextBox v-model="help" label="Whom to ask" hint="Stands on the sign-in page." :disabled="readonly" />
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </form>
</template>
