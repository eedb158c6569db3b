<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type Session, type SessionLimits } from "../api/client";
import PeopleNav from "../components/PeopleNav.vue";
import SessionTable from "../components/SessionTable.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const route = useRoute();
const router = useRouter();
const asked = (name: string) =>
  computed({
    get: () => String(route.query[name] ?? ""),
    set: (v) => void router.replace({ query: { ...route.query, [name]: v || undefined } }),
  });
const search = asked("search");
const application = asked("application");
const ended = asked("ended");
const after = ref("");
const query = () => ({
  search: search.value || undefined,
  application: application.value || undefined,
  ended: ended.value || undefined,
  after: after.value || undefined,
});
const { data, error, again } = useLoad(
  () => ok(http.GET("/sessions", { params: { query: query() } })),
  [search, application, ended, after],
);
watch([search, application, ended], () => (after.value = ""));
const limits = useLoad(() => ok(http.GET("/session-limits")));
const form = ref({ idle: "", max: "", persistent: false });
watch(
  limits.data,
  (l) => l && (form.value = { idle: String(l.idleMinutes), max: String(l.maxHours), persistent: l.persistent }),
);
const { error: actError, busy, act } = useAct();
const end = async (s: Session) =>
  (await sure(
    `End this session of ${s.person}? ${s.applications.length} applications are told; the person has to sign in again.`,
    "End it",
  )) &&
  act(async () => {
    await ok(http.DELETE("/sessions/{id}", { params: { path: { id: s.id } } }));
    await again();
  });
const save = () =>
  act(async () => {
    const body: SessionLimits = {
      idleMinutes: Number(form.value.idle),
      maxHours: Number(form.value.max),
      persistent: form.value.persistent,
    };
    await ok(http.PUT("/session-limits", { body }));
    await Promise.all([limits.again(), again()]);
  });
</script>

<template>
  <h1>Sessions</h1>
  <p class="sub">
    What browsers have at the gate after somebody signed in. A session is used for the next application, and ends for
    all of them.
  </p>
  <PeopleNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <div class="row choice">
    <ElFormItem label="Search">
      <ElInput v-model="search" autocomplete="off" />
      <small>How a name begins, or an address</small>
    </ElFormItem>
    <ElFormItem label="Went to">
      <ObjectPick v-model="application" of="applications" none="any application" />
    </ElFormItem>
    <ElFormItem label="State">
      <ElSelect v-model="ended">
        <ElOption
          v-for="[value, text] in [
            ['', 'open'],
            ['yes', 'also those that ended'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
  </div>
  <SessionTable
    :sessions="data?.items ?? []"
    :busy="busy"
    person
    :readonly="!session.engineer"
    empty="Nobody has a session now. Each sign-in in a browser begins one."
    @end="end"
  />
  <p v-if="data?.next">
    <ElButton @click="after = data.next ?? ''">Next page</ElButton>
  </p>
  <p v-if="actError" class="error" role="alert">{{ actError }}</p>
  <section v-if="limits.data.value" class="limits">
    <h2>How long they last</h2>
    <ElForm label-position="top" class="panel" @submit.prevent="save">
      <div class="row choice">
        <ElFormItem label="Minutes unused">
          <ElInput v-model="form.idle" :disabled="!session.owner" type="number" autocomplete="off" />
          <small>After that the person is asked again.</small>
        </ElFormItem>
        <ElFormItem label="Hours at most">
          <ElInput v-model="form.max" :disabled="!session.owner" type="number" autocomplete="off" />
        </ElFormItem>
      </div>
      <ElCheckbox v-model="form.persistent"
        ><b>They outlive the browser</b><small>Otherwise they go when the browser is closed.</small></ElCheckbox
      >
      <ElButton v-if="session.owner" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    </ElForm>
  </section>
</template>

<style scoped>
.choice {
  gap: 20px;
  margin-bottom: 8px;
  align-items: end;
}
.choice :deep(.el-form-item) {
  min-width: 14rem;
  margin: 0;
}
.limits {
  margin-top: 28px;
  max-width: 620px;
}
</style>
