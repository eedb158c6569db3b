<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok } from "../api/client";
import type { Choice } from "../composables/choices";
import { useAct } from "../composables/load";
import FilePick from "./FilePick.vue";

// The next key of a purpose: made here, or brought from elsewhere.
const props = defineProps<{ purpose: string; partner?: string }>();
const emit = defineEmits<{ made: [] }>();
const way = ref("make");
const data = ref("");
const password = ref("");
const encryption = computed(() => props.purpose === "saml-encryption");
const { error: failed, busy, act } = useAct();
const tokenKinds: Record<string, Choice[]> = {
  "token-rsa": [
    ["rsa-3072", "RSA 3072"],
    ["rsa-2048", "RSA 2048"],
    ["rsa-4096", "RSA 4096"],
  ],
  "token-p256": [["p-256", "P-256"]],
  "token-ed25519": [["ed25519", "Ed25519"]],
  client: [
    ["p-256", "P-256"],
    ["rsa-3072", "RSA 3072"],
    ["ed25519", "Ed25519"],
  ],
};
const kinds = computed<Choice[]>(
  () =>
    tokenKinds[props.purpose] ?? [
      ["rsa-2048", "RSA 2048"],
      ["rsa-3072", "RSA 3072"],
      ["rsa-4096", "RSA 4096"],
      ...(encryption.value
        ? []
        : ([
            ["p-256", "P-256"],
            ["p-384", "P-384"],
          ] as Choice[])),
    ],
);
const kind = ref(tokenKinds[props.purpose]?.[0]?.[0] ?? "rsa-3072");
const make = () =>
  act(async () => {
    await ok(http.POST("/keys", { body: { purpose: props.purpose, kind: kind.value, for: props.partner } }));
    emit("made");
  });
const bring = () =>
  act(async () => {
    await ok(
      http.POST("/keys/import", {
        body: { purpose: props.purpose, for: props.partner, data: data.value, password: password.value || undefined },
      }),
    );
    data.value = password.value = "";
    emit("made");
  });
async function bundle(files: File[]) {
  if (!files?.[0]) return;
  const bytes = new Uint8Array(await files[0].arrayBuffer());
  const text = new TextDecoder().decode(bytes);
  data.value = text.includes("-----BEGIN") ? text : btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));
}
</script>

<template>
  <ElFormItem label="The next key">
    <ElSelect v-model="way">
      <ElOption
        v-for="[value, text] in [
          ['make', 'make it here'],
          ['bring', 'bring one that was made elsewhere'],
        ]"
        :key="value"
        :value="value"
        :label="text"
      />
    </ElSelect>
  </ElFormItem>
  <ElForm v-if="way !== 'bring'" label-position="top" class="row" @submit.prevent="make">
    <ElFormItem label="Kind">
      <ElSelect v-model="kind">
        <ElOption v-for="[value, text] in kinds" :key="value" :value="value" :label="text" />
      </ElSelect>
    </ElFormItem>
    <ElButton type="primary" native-type="submit" :loading="busy">Make the next key</ElButton>
  </ElForm>
  <ElForm v-else label-position="top" @submit.prevent="bring">
    <FilePick label="File" hint="PEM with key and certificate, or PKCS #12." @files="bundle" />
    <ElFormItem label="Password of the file">
      <ElInput v-model="password" type="password" autocomplete="off" />
      <small>For PKCS #12.</small>
    </ElFormItem>
    <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!data">Take it as the next key</ElButton>
  </ElForm>
  <p v-if="failed" class="error" role="alert">{{ failed }}</p>
</template>

<style scoped>
.row {
  align-items: flex-end;
}
.row .el-form-item {
  margin-bottom: 0;
  min-width: 180px;
}
.el-form-item {
  max-width: 420px;
}
</style>
