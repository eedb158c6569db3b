<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import SelectBox from "../components/SelectBox.vue";
import TextBox from "../components/TextBox.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";

const roles: [string, string][] = [["viewer", "viewer: reads, personal values masked"], ["engineer", "engineer: the configuration, rehearsals, traces"], ["owner", "owner: everything"]];
const people = useLoad(() => ok(http.GET("/administrators")));
const tokens = useLoad(() => ok(http.GET("/tokens")));
const one = ref({ name: "", role: "viewer", password: "" });
const token = ref({ name: "", role: "viewer", days: 90 });
const secret = ref("");
const { error, busy, act } = useAct();

const add = () => act(async () => {
  await ok(http.POST("/administrators", { body: one.value }));
  one.value = { name: "", role: "viewer", password: "" };
  await people.again();
});
const remove = (id: string, name: string) => confirm(`Remove ${name}? All their sessions end.`) && act(async () => {
  await ok(http.DELETE("/administrators/{id}", { params: { path: { id } } }));
  await people.again();
});
const make = () => act(async () => {
  secret.value = (await ok(http.POST("/tokens", { body: token.value }))).secret ?? "";
  token.value = { name: "", role: "viewer", days: 90 };
  await tokens.again();
});
const revoke = (id: string, name: string) => confirm(`Revoke the token ${name}? What uses it stops at once.`) && act(async () => {
  await ok(http.DELETE("/tokens/{id}", { params: { path: { id } } }));
  await tokens.again();
});
</script>

<template>
  <h1>Access to the console</h1>
  <p class="sub">Administrators sign in here; tokens are for programs.</p>
  <p v-if="error || people.error.value || tokens.error.value" class="error" role="alert">{{ error || people.error.value || tokens.error.value }}</p>
  <div class="cols">
    <section><h2>Administrators</h2>
      <table class="list"><thead><tr><th scope="col">Name</th><th scope="col">Role</th><th scope="col">Last sign-in</th><th scope="col"><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody><tr v-for="a in people.data.value?.items ?? []" :key="a.id"><td>{{ a.name }}</td><td>{{ a.role }}</td><td><TimeText :at="a.lastSignIn" from /></td><td><ElButton size="small" type="danger" @click="remove(a.id, a.name)">Remove</ElButton></td></tr></tbody></table></section>
    <form class="panel" @submit.prevent="add"><h2>Add an administrator</h2><TextBox v-model="one.name" label="Name" /><SelectBox v-model="one.role" label="Role" :options="roles" /><TextBox v-model="one.password" label="First password" type="password" hint="At least 12 characters." autocomplete="new-password" /><ElButton type="primary" native-type="submit" :loading="busy">Add</ElButton></form>
    <section><h2>API tokens</h2>
      <table v-if="tokens.data.value?.items.length" class="list"><thead><tr><th scope="col">Name</th><th scope="col">Role</th><th scope="col">Made by</th><th scope="col">Last used</th><th scope="col">Ends</th><th scope="col"><span class="visually-hidden">Acts</span></th></tr></thead>
        <tbody><tr v-for="t in tokens.data.value.items" :key="t.id"><td>{{ t.name }}</td><td>{{ t.role }}</td><td>{{ t.by }}</td><td><TimeText :at="t.lastUsed" from /></td><td><TimeText :at="t.expires" /></td><td><ElButton size="small" type="danger" @click="revoke(t.id, t.name)">Revoke</ElButton></td></tr></tbody></table>
      <p v-else class="soft">There is no token. Programs and the command line need one.</p></section>
    <form class="panel" @submit.prevent="make"><h2>Make a token</h2><TextBox v-model="token.name" label="What will use it" /><SelectBox v-model="token.role" label="Role" :options="roles" /><ElButton type="primary" native-type="submit" :loading="busy" :disabled="!token.name.trim()">Make it, good for 90 days</ElButton>
      <div v-if="secret" class="secret"><p><b>Copy it now; it is shown once.</b></p><CopyValue :value="secret" label="the token" /></div></form>
  </div>
</template>

<style scoped>
.secret { margin-top: 14px; background: var(--brass-tint); padding: 10px 14px; border-radius: 3px; }
</style>
