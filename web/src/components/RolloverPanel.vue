<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { ApiError, http, ok, type Key } from "../api/client";
import { useAct, useLoad, useTicker } from "../composables/load";
import KeyCards from "./KeyCards.vue";
import KeyHolders from "./KeyHolders.vue";
import NextKeyForm from "./NextKeyForm.vue";
import RolloverSteps from "./RolloverSteps.vue";
import TimeText from "./TimeText.vue";

const props = defineProps<{ purpose: string; partner?: string; owner: boolean; engineer: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const {
  data: roll,
  error,
  again,
} = useLoad(
  () => ok(http.GET("/rollover", { params: { query: { purpose: props.purpose, for: props.partner } } })),
  [() => props.purpose, () => props.partner],
);
useTicker(3000, () => void again());
const { error: failed, busy, act } = useAct();
const token = computed(() => !props.purpose.startsWith("saml-"));
const replacing = ref(false); // the new key, although the old one is still kept
const chain = ref("");
const at = ref("");
const anyway = ref(false);
const encryption = computed(() => props.purpose === "saml-encryption");
const order = computed(
  () => ({ make: 0, publish: 1, wait: 2, scheduled: 3, keep: 4 })[roll.value?.step ?? "make"] ?? 0,
);
const all = computed(() => !!roll.value && roll.value.have === roll.value.count);

async function after() {
  replacing.value = false;
  await again();
  emit("changed");
}
const one = (k: Key) => ({ params: { path: { id: k.id } } });
const publish = () =>
  act(async () => {
    await ok(http.POST("/keys/{id}/publish", one(roll.value!.next!)));
    await after();
  });
const undo = (k: Key) =>
  act(async () => {
    await ok(http.POST("/keys/{id}/undo", one(k)));
    await after();
  });
const discard = () =>
  act(async () => {
    await ok(http.DELETE("/keys/{id}", one(roll.value!.next!)));
    await after();
  });
const switchTo = (anyway: boolean) =>
  ok(
    http.POST("/keys/{id}/switch", {
      ...one(roll.value!.next!),
      body: { at: at.value ? new Date(at.value).toISOString() : undefined, anyway: anyway || undefined },
    }),
  );
/** Switches; where the gate names partners that lack the certificate, the engineer decides. */
async function change() {
  let lacking = "";
  const switched = await act(async () => {
    try {
      await switchTo(anyway.value);
    } catch (e) {
      if (!(e instanceof ApiError) || e.problem.code !== "certificate-not-held") throw e;
      lacking = e.problem.detail ?? e.message;
    }
  });
  if (!switched) return;
  if (lacking && !(await sure(lacking, "Switch anyway"))) return;
  await act(async () => {
    if (lacking) await switchTo(true);
    at.value = "";
    await after();
  });
}
async function retire(k: Key) {
  if (!(await sure("Retire the old key? This is the one step that can't be taken back.", "Retire it"))) return;
  await act(async () => {
    await ok(http.POST("/keys/{id}/retire", one(k)));
    await after();
  });
}
const certify = () =>
  act(async () => {
    await ok(http.PUT("/keys/{id}/certificate", { ...one(roll.value!.next!), body: { text: chain.value } }));
    chain.value = "";
    await after();
  });
</script>

<template>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="roll">
    <RolloverSteps :token="token" :order="order" />
    <div v-if="!owner" class="soft">Only an owner can take these steps.</div>
    <div v-else-if="roll.step === 'make' || (roll.step === 'keep' && replacing)" class="act">
      <NextKeyForm :purpose="purpose" :partner="partner" @made="after" />
    </div>
    <div v-else-if="roll.step === 'publish'" class="act">
      <p v-if="token">The next key is made ({{ roll.next!.kind }}).</p>
      <p v-else>
        The next key is made ({{ roll.next!.kind }}, ends <TimeText :at="roll.next!.notAfter" />). Its certificate is
        our own; where partners want one from an authority, have it signed now.
      </p>
      <details v-if="!token">
        <summary>A certificate from an authority</summary>
        <p>
          <a :href="`/api/v1/keys/${roll.next!.id}/request`" download="gate.csr">Download the signing request (CSR)</a>
        </p>
        <ElForm label-position="top" @submit.prevent="certify">
          <ElFormItem label="What the authority gave back">
            <ElInput v-model="chain" type="textarea" :rows="4" class="mono" spellcheck="false" autocomplete="off" />
            <small>PEM, the chain in any order.</small>
          </ElFormItem>
          <ElButton native-type="submit" :loading="busy" :disabled="!chain.trim()">Use this certificate</ElButton>
        </ElForm>
      </details>
      <div class="row">
        <ElButton type="primary" :loading="busy" @click="publish">Publish it beside the active one</ElButton>
        <ElButton @click="discard">Discard it</ElButton>
      </div>
    </div>
    <div v-else-if="roll.step === 'wait'" class="act">
      <p v-if="token">
        The next key is in our key set since <TimeText :at="roll.next!.published" from />. An hour is enough for
        partners that look once an hour; most look when they need to.
      </p>
      <p v-else>
        <b>{{ roll.have }} of {{ roll.count }}</b> partners have the next certificate.
        <template v-if="all">Everybody has it: you can switch.</template
        ><template v-else>Those who don't fetch our metadata by themselves get the exchange sheet.</template>
      </p>
      <ElForm label-position="top" class="row" @submit.prevent="change">
        <ElFormItem label="When">
          <ElDatePicker v-model="at" type="datetime" format="YYYY-MM-DD HH:mm" value-format="YYYY-MM-DDTHH:mm" />
          <small>Leave empty to switch at once.</small>
        </ElFormItem>
        <ElCheckbox v-if="at && !token && !all" v-model="anyway" label="Whoever has it by then" />
        <ElButton type="primary" native-type="submit" :loading="busy">{{
          at ? "Plan the switch" : "Switch now"
        }}</ElButton>
        <ElButton @click="undo(roll.next!)">Take the publication back</ElButton>
      </ElForm>
    </div>
    <div v-else-if="roll.step === 'scheduled'" class="act">
      <p>
        The gate switches <TimeText :at="roll.next!.switchAt" from /> (<TimeText :at="roll.next!.switchAt" />).<template
          v-if="!token"
        >
          {{ roll.have }} of {{ roll.count }} partners have the next certificate.</template
        >
      </p>
      <ElButton :loading="busy" @click="undo(roll.next!)">Take the plan back</ElButton>
    </div>
    <div v-else-if="roll.step === 'keep'" class="act">
      <p>
        The new key is active since <TimeText :at="roll.active!.switched" from />. The old one still
        {{
          encryption ? "opens what was encrypted for it" : token ? "stands in our key set" : "stands in our metadata"
        }}, and the switch can be taken back.
      </p>
      <div class="row">
        <ElButton :loading="busy" @click="undo(roll.active!)">Go back to the old key</ElButton>
        <ElButton v-for="k in roll.retiring" :key="k.id" type="danger" :loading="busy" @click="retire(k)"
          >Retire the old key</ElButton
        >
        <ElButton @click="replacing = true">Replace the new one as well</ElButton>
      </div>
    </div>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
    <KeyCards :roll="roll" :token="token" :encryption="encryption" />
    <KeyHolders
      v-if="roll.partners.length && ['wait', 'scheduled', 'keep'].includes(roll.step)"
      :roll="roll"
      :engineer="engineer"
      @changed="after"
    />
  </template>
</template>

<style scoped>
.act {
  margin-bottom: 14px;
}
.act .row {
  align-items: flex-end;
}
.act > .el-form-item {
  margin-bottom: 10px;
  max-width: 420px;
}
.act form .el-form-item {
  margin-bottom: 10px;
}
.act form.row .el-form-item {
  margin-bottom: 0;
  min-width: 180px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
}
details {
  margin-bottom: 10px;
}
</style>
