<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElAlert, ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type AccessRule } from "../api/client";
import GateNav from "../components/GateNav.vue";
import MailForm from "../components/MailForm.vue";
import PagesForm from "../components/PagesForm.vue";
import TokenPanel from "../components/TokenPanel.vue";
import TimeText from "../components/TimeText.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useAct, useLoad } from "../composables/load";

const roles: [string, string][] = [
  ["viewer", "viewer: reads, personal values masked"],
  ["engineer", "engineer: the configuration, rehearsals, traces"],
  ["owner", "owner: everything"],
];
const people = useLoad(() => ok(http.GET("/administrators")));
const one = ref({ name: "", role: "viewer", password: "" });
const access = useLoad(() => ok(http.GET("/console-access")));
const registration = useLoad(() => ok(http.GET("/client-registration")));
const rule = ref<AccessRule>({ provider: "", attribute: "groups", value: "", role: "viewer" });
const { error, busy, act } = useAct();
const rules = (list: AccessRule[]) =>
  act(async () => {
    await ok(http.PUT("/console-access", { body: { rules: list } }));
    rule.value = { provider: "", attribute: "groups", value: "", role: "viewer" };
    await access.again();
  });
const dropRule = async (i: number) =>
  (await sure("Take this rule away? Whoever came in by it is out at once.", "Take it away")) &&
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
const remove = async (id: string, name: string) =>
  (await sure(`Remove ${name}? All their sessions end.`, "Remove them")) &&
  act(async () => {
    await ok(http.DELETE("/administrators/{id}", { params: { path: { id } } }));
    await people.again();
  });
</script>

<template>
  <h1>Access to the console</h1>
  <p class="sub">Who looks after the gate, and with what.</p>
  <GateNav />
  <p v-if="error || people.error.value" class="error" role="alert">
    {{ error || people.error.value }}
  </p>
  <div class="cols">
    <section>
      <h2>Administrators</h2>
      <ElTable table-layout="auto" :data="people.data.value?.items ?? []" row-key="id">
        <ElTableColumn label="Name">
          <template #default="{ row: a }">{{ a.name }}</template>
        </ElTableColumn>
        <ElTableColumn label="Role">
          <template #default="{ row: a }">{{ a.role }}</template>
        </ElTableColumn>
        <ElTableColumn label="Last sign-in">
          <template #default="{ row: a }">
            <TimeText :at="a.lastSignIn" from />
          </template>
        </ElTableColumn>
        <ElTableColumn>
          <template #header>
            <span class="visually-hidden">Acts</span>
          </template>
          <template #default="{ row: a }">
            <ElButton size="small" type="danger" @click="remove(a.id, a.name)">Remove</ElButton>
          </template>
        </ElTableColumn>
      </ElTable>
    </section>
    <ElForm label-position="top" class="panel" @submit.prevent="add">
      <h2>Add an administrator</h2>
      <ElFormItem label="Name">
        <ElInput v-model="one.name" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Role">
        <ElSelect v-model="one.role">
          <ElOption v-for="[value, text] in roles" :key="value" :value="value" :label="text" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="First password">
        <ElInput v-model="one.password" type="password" autocomplete="new-password" />
        <small>At least 12 characters.</small>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Add</ElButton>
    </ElForm>
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
      <ElTable v-if="access.data.value?.rules.length" table-layout="auto" :data="access.data.value.rules">
        <ElTableColumn label="Provider">
          <template #default="{ row: r }">{{ r.provider }}</template>
        </ElTableColumn>
        <ElTableColumn label="Whose profile has">
          <template #default="{ row: r }">
            <span class="mono">{{ r.attribute }} = {{ r.value }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Role">
          <template #default="{ row: r }">{{ r.role }}</template>
        </ElTableColumn>
        <ElTableColumn>
          <template #header>
            <span class="visually-hidden">Acts</span>
          </template>
          <template #default="{ $index: i }">
            <ElButton size="small" type="danger" @click="dropRule(i)">Take away</ElButton>
          </template>
        </ElTableColumn>
      </ElTable>
      <p v-else class="soft">
        Nobody comes in through a provider yet. With a rule, administrators sign in here and with
        <span class="mono">innergate login</span> as they do everywhere else; whom no rule fits stays out. Passwords
        stay for emergencies.
      </p>
    </section>
    <ElForm label-position="top" class="panel" @submit.prevent="rules([...(access.data.value?.rules ?? []), rule])">
      <h2>Let people in</h2>
      <ElFormItem label="For whom this provider vouches">
        <ObjectPick v-model="rule.provider" of="providers" />
      </ElFormItem>
      <ElFormItem label="and whose profile's">
        <ElInput v-model="rule.attribute" class="mono" spellcheck="false" autocomplete="off" />
        <small>As the provider's mapping sets it.</small>
      </ElFormItem>
      <ElFormItem label="has the value">
        <ElInput v-model="rule.value" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="gets the role">
        <ElSelect v-model="rule.role">
          <ElOption v-for="[value, text] in roles" :key="value" :value="value" :label="text" />
        </ElSelect>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!rule.provider || !rule.value.trim()"
        >Add the rule</ElButton
      >
    </ElForm>
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
    <TokenPanel :roles="roles" />
    <MailForm />
  </div>
  <PagesForm />
</template>
