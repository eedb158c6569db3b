<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import ObjectPick from "./ObjectPick.vue";
import PersonPick from "./PersonPick.vue";

const props = defineProps<{ slug: string; readonly?: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const path = () => ({ path: { slug: props.slug } });
const {
  data,
  error: loadError,
  again,
} = useLoad(
  () => ok(http.GET("/applications/{slug}/assignments", { params: { ...path(), query: { limit: 100 } } })),
  [() => props.slug],
);
const kind = ref("group");
const group = ref("");
const person = ref("");
const roles = ref("");
const pick = ref<InstanceType<typeof PersonPick> | null>(null);
const { error, busy, act } = useAct();
const assign = () =>
  act(async () => {
    await ok(
      http.PUT("/applications/{slug}/assignments", {
        params: path(),
        body: {
          kind: kind.value,
          who: kind.value === "group" ? group.value : person.value,
          roles: roles.value
            .split(",")
            .map((r) => r.trim())
            .filter(Boolean),
        },
      }),
    );
    group.value = person.value = roles.value = "";
    pick.value?.clear();
    await again();
    emit("changed");
  });
const unassign = async (k: string, who: string, name: string) =>
  (await sure(`Take ${name} away? Whoever has no other way in is refused at the next sign-in.`, "Take it away")) &&
  act(async () => {
    await ok(
      http.DELETE("/applications/{slug}/assignments/{kind}/{who}", {
        params: { path: { slug: props.slug, kind: k, who } },
      }),
    );
    await again();
    emit("changed");
  });
</script>

<template>
  <section>
    <h3>Assigned</h3>
    <p v-if="loadError" class="error" role="alert">{{ loadError }}</p>
    <ElTable v-if="data?.items.length" table-layout="auto" :data="data.items">
      <ElTableColumn label="Who">
        <template #default="{ row: a }">
          <span class="tag">{{ a.kind }}</span>
          <RouterLink v-if="a.kind === 'person'" :to="`/people/${a.who}`">{{ a.name }}</RouterLink><template v-else>{{
            a.name
          }}</template>
          <span class="soft small">{{ a.hint }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Roles at the application">
        <template #default="{ row: a }">
          <span class="mono">{{ a.roles.join(", ") || "–" }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="By">
        <template #default="{ row: a }">{{ a.by }}</template>
      </ElTableColumn>
      <ElTableColumn>
        <template #header>
          <span class="visually-hidden">Acts</span>
        </template>
        <template #default="{ row: a }">
          <ElButton v-if="!readonly" size="small" type="danger" @click="unassign(a.kind, a.who, a.name ?? a.who)"
            >Take away</ElButton
          >
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else class="soft">
      Nobody is assigned. An assignment can carry roles of the application's own; the mapping out sends them as
      <span class="mono">assigned_roles</span>.
    </p>
    <p v-if="data?.next" class="soft">These are the first hundred.</p>
    <ElForm v-if="!readonly" label-position="top" class="add" @submit.prevent="assign">
      <ElFormItem label="Assign a">
        <ElSelect v-model="kind">
          <ElOption
            v-for="[value, text] in [
              ['group', 'group'],
              ['person', 'person'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem v-if="kind === 'group'" label="Group">
        <ObjectPick v-model="group" of="groups" />
      </ElFormItem>
      <PersonPick v-else ref="pick" v-model="person" label="Person" hint="" />
      <ElFormItem label="Roles">
        <ElInput v-model="roles" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElButton native-type="submit" :loading="busy" :disabled="kind === 'group' ? !group : !person">Assign</ElButton>
    </ElForm>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
section {
  margin-top: 18px;
}
.add {
  display: grid;
  grid-template-columns: 7rem minmax(10rem, 1fr) minmax(8rem, 1fr) auto;
  gap: 10px;
  align-items: end;
  margin-top: 12px;
}
.add > .el-button {
  margin-bottom: 14px;
}
@media (max-width: 700px) {
  .add {
    grid-template-columns: 1fr;
  }
}
</style>
