<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { providerConfig, type Provider, type ProviderConfig } from "../api/client";
import { useAct } from "../composables/load";
import CommonValues from "./CommonValues.vue";

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
  <ElForm label-position="top" @submit.prevent="store">
    <h2>The gate's own people</h2>
    <p class="soft">
      Whoever has a name in the gate's own directory signs in here with a password.
      <RouterLink to="/people">People</RouterLink> get that name on their page, and a link with which they set the
      password.
    </p>
    <CommonValues v-model="draft" :readonly />
    <ElFormItem label="Second factor">
      <ElSelect v-model="factor" :disabled="readonly">
        <ElOption
          v-for="[value, text] in [
            ['offered', 'asked of those who have one'],
            ['required', 'required: who has none sets one up at the next sign-in'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
    <ElFormItem label="Passkeys">
      <ElSelect v-model="passkeys" :disabled="readonly">
        <ElOption
          v-for="[value, text] in [
            ['alone', 'as the second factor, or alone'],
            ['second', 'as the second factor'],
            ['off', 'no new ones are set up'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
      <small
        >A passkey belongs to this gate's host name. Alone, it stands for name, password and second factor together, and
        the device checks that it is its owner who uses it.</small
      >
    </ElFormItem>
    <ElFormItem label="Whom to ask">
      <ElInput v-model="help" :disabled="readonly" autocomplete="off" />
      <small>Stands on the sign-in page.</small>
    </ElFormItem>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </ElForm>
</template>
