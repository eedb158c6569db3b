<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import ObjectPick from "../components/ObjectPick.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const { data, error } = useLoad(() => ok(http.GET("/moves")));
const name = ref("");
const route = useRoute();
const from = ref(String(route.query.from ?? ""));
const to = ref("");
const remark = ref("");
const people = ref("");
const groups = ref("");
// What was chosen in the list of applications.
const some = ref(
  String(route.query.applications ?? "")
    .split(",")
    .filter(Boolean),
);
const { data: apps } = useLoad(
  async () =>
    from.value ? ok(http.GET("/applications", { params: { query: { provider: from.value, limit: 1 } } })) : null,
  [from],
);
const list = (text: string) => text.split(/[,\s]+/).filter(Boolean);
const { error: failed, busy, act } = useAct();
const plan = () =>
  act(async () => {
    const circle =
      list(people.value).length + list(groups.value).length
        ? { people: list(people.value), groups: list(groups.value) }
        : undefined;
    const made = await ok(
      http.POST("/moves", {
        body: {
          name: name.value,
          from: from.value,
          to: to.value,
          remark: remark.value || undefined,
          applications: some.value.length ? some.value : undefined,
          circle,
        },
      }),
    );
    await router.push(`/moves/${made.slug}`);
  });
const states: Record<string, string> = { open: "attention", done: "sound", "given up": "" };
</script>

<template>
  <h1>Moves</h1>
  <p class="sub">
    From one provider to another, for many applications, in waves: with proof before each step, and a way back after it.
  </p>
  <EstateNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <ElTable v-if="data?.items.length" table-layout="auto" :data="data.items" row-key="slug">
    <ElTableColumn label="Name">
      <template #default="{ row: m }">
        <RouterLink :to="`/moves/${m.slug}`"
          ><b>{{ m.name }}</b></RouterLink
        >
      </template>
    </ElTableColumn>
    <ElTableColumn label="From">
      <template #default="{ row: m }">{{ m.from.name }}</template>
    </ElTableColumn>
    <ElTableColumn label="To">
      <template #default="{ row: m }">{{ m.to.name }}</template>
    </ElTableColumn>
    <ElTableColumn label="Moved">
      <template #default="{ row: m }">{{ m.moved }} of {{ m.applications }}</template>
    </ElTableColumn>
    <ElTableColumn label="State">
      <template #default="{ row: m }">
        <span class="tag" :class="states[m.state]">{{ m.state }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Planned">
      <template #default="{ row: m }"> <TimeText :at="m.created" from /> by {{ m.by }}</template>
    </ElTableColumn>
  </ElTable>
  <p v-else-if="data" class="panel empty">
    Nothing is being moved. A move is planned first; no application changes until a wave of it is opened.
  </p>
  <ElForm v-if="session.engineer" label-position="top" class="panel add" @submit.prevent="plan">
    <h2>Plan a move</h2>
    <ElFormItem label="Name">
      <ElInput v-model="name" autocomplete="off" />
      <small>What a colleague will understand in two years.</small>
    </ElFormItem>
    <div class="pair">
      <ElFormItem label="From">
        <ObjectPick v-model="from" of="providers" />
      </ElFormItem>
      <ElFormItem label="To">
        <ObjectPick v-model="to" of="providers" :except="from" />
      </ElFormItem>
    </div>
    <ElFormItem v-if="apps?.items.length" label="Applications">
      <ObjectPick
        v-model="some"
        of="applications"
        multiple
        :narrow="{ provider: from }"
        placeholder="all that have it"
      />
      <small>None chosen: all that have the provider.</small>
    </ElFormItem>
    <p v-else-if="apps" class="soft">No application has it.</p>
    <div class="pair">
      <ElFormItem label="Groups that try it">
        <ElInput v-model="groups" autocomplete="off" />
        <small>Short names. Their people's sign-ins both ways count; nobody named: everybody's.</small>
      </ElFormItem>
      <ElFormItem label="People who try it">
        <ElInput v-model="people" autocomplete="off" />
        <small>By user name or mail address.</small>
      </ElFormItem>
    </div>
    <ElFormItem label="Remark">
      <ElInput v-model="remark" autocomplete="off" />
    </ElFormItem>
    <ElButton
      type="primary"
      native-type="submit"
      :loading="busy"
      :disabled="!name.trim() || !from || !to || !apps?.items.length"
      >Plan it</ElButton
    >
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
  </ElForm>
</template>

<style scoped>
.add {
  margin-top: 24px;
  max-width: 860px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 16px;
}
fieldset {
  border: 1px solid var(--rule);
  border-radius: 4px;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(200px, 1fr));
  gap: 6px 14px;
  margin: 0 0 14px;
}
</style>
