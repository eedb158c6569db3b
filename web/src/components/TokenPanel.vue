<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import type { Choice } from "../composables/choices";
import { useAct, useLoad } from "../composables/load";
import { sure } from "../composables/sure";
import CopyValue from "./CopyValue.vue";
import TimeText from "./TimeText.vue";

// Tokens with which programs and the command line speak to the gate.
defineProps<{ roles: Choice[] }>();
const { data, error: loadError, again } = useLoad(() => ok(http.GET("/tokens")));
const token = ref({ name: "", role: "viewer", days: 90 });
const secret = ref("");
const { error, busy, act } = useAct();
const make = () =>
  act(async () => {
    secret.value = (await ok(http.POST("/tokens", { body: token.value }))).secret ?? "";
    token.value = { name: "", role: "viewer", days: 90 };
    await again();
  });
const revoke = async (id: string, name: string) =>
  (await sure(`Revoke the token ${name}? What uses it stops at once.`, "Revoke it")) &&
  act(async () => {
    await ok(http.DELETE("/tokens/{id}", { params: { path: { id } } }));
    await again();
  });
</script>

<template>
  <section>
    <h2>API tokens</h2>
    <ElTable v-if="data?.items.length" table-layout="auto" :data="data.items" row-key="id">
      <ElTableColumn label="Name">
        <template #default="{ row: t }">{{ t.name }}</template>
      </ElTableColumn>
      <ElTableColumn label="Role">
        <template #default="{ row: t }">{{ t.role }}</template>
      </ElTableColumn>
      <ElTableColumn label="Made by">
        <template #default="{ row: t }">{{ t.by }}</template>
      </ElTableColumn>
      <ElTableColumn label="Last used">
        <template #default="{ row: t }">
          <TimeText :at="t.lastUsed" from />
        </template>
      </ElTableColumn>
      <ElTableColumn label="Ends">
        <template #default="{ row: t }">
          <TimeText :at="t.expires" />
        </template>
      </ElTableColumn>
      <ElTableColumn>
        <template #header>
          <span class="visually-hidden">Acts</span>
        </template>
        <template #default="{ row: t }">
          <ElButton size="small" type="danger" @click="revoke(t.id, t.name)">Revoke</ElButton>
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else class="soft">There is no token. Programs and the command line need one.</p>
  </section>
  <ElForm label-position="top" class="panel" @submit.prevent="make">
    <h2>Make a token</h2>
    <ElFormItem label="What will use it">
      <ElInput v-model="token.name" autocomplete="off" />
    </ElFormItem>
    <ElFormItem label="Role">
      <ElSelect v-model="token.role">
        <ElOption v-for="[value, text] in roles" :key="value" :value="value" :label="text" />
      </ElSelect>
    </ElFormItem>
    <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!token.name.trim()"
      >Make it, good for 90 days</ElButton
    >
    <div v-if="secret" class="secret">
      <p><b>Copy it now; it is shown once.</b></p>
      <CopyValue :value="secret" label="the token" />
    </div>
  </ElForm>
  <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
</template>

<style scoped>
.secret {
  margin-top: 14px;
  background: var(--brass-tint);
  padding: 10px 14px;
  border-radius: 3px;
}
</style>
