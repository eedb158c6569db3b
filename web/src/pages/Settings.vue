<script setup lang="ts">
import { ElAlert, ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type AccessRule } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import MailForm from "../components/MailForm.vue";
import SelectBox from "../components/SelectBox.vue";
import TextBox from "../components/TextBox.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";

const roles: [string, string][] = [
  ["viewer", "viewer: reads, personal values masked"],
  ["engineer", "engineer: the configuration, rehearsals, traces"],
  ["owner", "owner: everything"],
];
const people = useLoad(() => ok(http.GET("/administrators")));
const tokens = useLoad(() => ok(http.GET("/tokens")));
const one = ref({ name: "", role: "viewer", password: "" });
const token = ref({ name: "", role: "viewer", days: 90 });
const secret = ref("");
const access = useLoad(() => ok(http.GET("/console-access")));
const registration = useLoad(() => ok(http.GET("/client-registration")));
const providers = useLoad(() => ok(http.GET("/providers", { params: { query: { limit: 200 } } })));
const rule = ref<AccessRule>({ provider: "", attribute: "groups", value: "", role: "viewer" });
const { error, busy, act } = useAct();
const rules = (list: AccessRule[]) =>
  act(async () => {
    await ok(http.PUT("/console-access", { body: { rules: list } }));
    rule.value = { provider: "", attribute: "groups", value: "", role: "viewer" };
    await access.again();
  });
const dropRule = (i: number) =>
  confirm("Take this rule away? Whoever came in by it is out at once.") &&
  rules((access.data.value?.rules ?? []).filter((_, n) => n !== i));
const register = (on: boolean) =>
  act(async () => {
    await ok(http.PUT("/client-registration", { body: { on } }));
    await registration.again();
  });

const add = () =>
  act(async () => {
    await ok(http.POST("/administrators", { body: one.value }));
    one.value = { name: "", role: "viewer", password: "" };
    await people.again();
  });
const remove = (id: string, name: string) =>
  confirm(`Remove ${name}? All their sessions end.`) &&
  act(async () => {
    await ok(http.DELETE("/administrators/{id}", { params: { path: { id } } }));
    await people.again();
  });
const make = () =>
  act(async () => {
    secret.value = (await ok(http.POST("/tokens", { body: token.value }))).secret ?? "";
    token.value = { name: "", role: "viewer", days: 90 };
    await tokens.again();
  });
const revoke = (id: string, name: string) =>
  confirm(`Revoke the token ${name}? What uses it stops at once.`) &&
  act(async () => {
    await ok(http.DELETE("/tokens/{id}", { params: { path: { id } } }));
    await tokens.again();
  });
</script>

<template>
  <h1>Access to the console</h1>
  <p class="sub">Who looks after the gate, and with what.</p>
  <p v-if="error || people.error.value || tokens.error.value" class="error" role="alert">
    {{ error || people.error.value || tokens.error.value }}
  </p>
  <div class="cols">
    <section>
      <h2>Administrators</h2>
      <table class="list">
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">Role</th>
            <th scope="col">Last sign-in</th>
            <th scope="col"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="a in people.data.value?.items ?? []" :key="a.id">
            <td>{{ a.name }}</td>
            <td>{{ a.role }}</td>
            <td><TimeText :at="a.lastSignIn" from /></td>
            <td><ElButton size="small" type="danger" @click="remove(a.id, a.name)">Remove</ElButton></td>
          </tr>
        </tbody>
      </table>
    </section>
    <form class="panel" @submit.prevent="add">
      <h2>Add an administrator</h2>
      <TextBox v-model="one.name" label="Name" /><SelectBox v-model="one.role" label="Role" :options="roles" /><TextBox
        v-model="one.password"
        label="First password"
        type="password"
        hint="At least 12 characters."
        autocomplete="new-password"
      /><ElButton type="primary" native-type="submit" :loading="busy">Add</ElButton>
    </form>
    <section>
      <h2>Through providers</h2>
      <ElAlert
        v-for="slug in access.data.value?.unconfirmed ?? []"
        :key="slug"
        type="warning"
        :closable="false"
        :title="`${slug} gives no role until an owner confirms it`"
      >
        Somebody who is no owner has changed it, or a rule set that it uses. Look at its history first.
        <ElButton size="small" :loading="busy" @click="rules(access.data.value?.rules ?? [])"
          >Confirm it as it is</ElButton
        >
      </ElAlert>
      <table v-if="access.data.value?.rules.length" class="list">
        <thead>
          <tr>
            <th scope="col">Provider</th>
            <th scope="col">Whose profile has</th>
            <th scope="col">Role</th>
            <th scope="col"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in access.data.value.rules" :key="i">
            <td>{{ r.provider }}</td>
            <td class="mono">{{ r.attribute }} = {{ r.value }}</td>
            <td>{{ r.role }}</td>
            <td><ElButton size="small" type="danger" @click="dropRule(i)">Take away</ElButton></td>
          </tr>
        </tbody>
      </table>
      <p v-else class="soft">
        Nobody comes in through a provider yet. With a rule, administrators sign in here and with
        <span class="mono">innergate login</span> as they do everywhere else; whom no rule fits stays out. Passwords
        stay for emergencies.
      </p>
    </section>
    <form class="panel" @submit.prevent="rules([...(access.data.value?.rules ?? []), rule])">
      <h2>Let people in</h2>
      <SelectBox
        v-model="rule.provider"
        label="For whom this provider vouches"
        :options="(providers.data.value?.items ?? []).map((p) => [p.slug, p.name] as [string, string])"
      /><TextBox
        v-model="rule.attribute"
        label="and whose profile's"
        hint="As the provider's mapping sets it."
        mono
      /><TextBox v-model="rule.value" label="has the value" mono /><SelectBox
        v-model="rule.role"
        label="gets the role"
        :options="roles"
      /><ElButton type="primary" native-type="submit" :loading="busy" :disabled="!rule.provider || !rule.value.trim()"
        >Add the rule</ElButton
      >
    </form>
    <section>
      <h2>Client registration</h2>
      <p class="soft">
        Clients may register themselves as drafts, with an engineer's API token. Nobody signs in to a draft until it is
        opened.
      </p>
      <p>
        It is <b>{{ registration.data.value?.on ? "on" : "off" }}</b>.
        <ElButton size="small" :loading="busy" @click="register(!registration.data.value?.on)"
          >Switch it {{ registration.data.value?.on ? "off" : "on" }}</ElButton
        >
      </p>
    </section>
    <span></span>
    <section>
      <h2>API tokens</h2>
      <table v-if="tokens.data.value?.items.length" class="list">
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">Role</th>
            <th scope="col">Made by</th>
            <th scope="col">Last used</th>
            <th scope="col">Ends</th>
            <th scope="col"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in tokens.data.value.items" :key="t.id">
            <td>{{ t.name }}</td>
            <td>{{ t.role }}</td>
            <td>{{ t.by }}</td>
            <td><TimeText :at="t.lastUsed" from /></td>
            <td><TimeText :at="t.expires" /></td>
            <td><ElButton size="small" type="danger" @click="revoke(t.id, t.name)">Revoke</ElButton></td>
          </tr>
        </tbody>
      </table>
      <p v-else class="soft">There is no token. Programs and the command line need one.</p>
    </section>
    <form class="panel" @submit.prevent="make">
      <h2>Make a token</h2>
      <TextBox v-model="token.name" label="What will use it" /><SelectBox
        v-model="token.role"
        label="Role"
        :options="roles"
      /><ElButton type="primary" native-type="submit" :loading="busy" :disabled="!token.name.trim()"
        >Make it, good for 90 days</ElButton
      >
      <div v-if="secret" class="secret">
        <p><b>Copy it now; it is shown once.</b></p>
        <CopyValue :value="secret" label="the token" />
      </div>
    </form>
    <MailForm />
  </div>
</template>

<style scoped>
.secret {
  margin-top: 14px;
  background: var(--brass-tint);
  padding: 10px 14px;
  border-radius: 3px;
}
</style>
