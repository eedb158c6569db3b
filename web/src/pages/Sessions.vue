<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type Session, type SessionLimits } from "../api/client";
import CheckBox from "../components/CheckBox.vue";
import PeopleNav from "../components/PeopleNav.vue";
import SelectBox from "../components/SelectBox.vue";
import SessionTable from "../components/SessionTable.vue";
import TextBox from "../components/TextBox.vue";
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
const apps = useLoad(() => ok(http.GET("/applications", { params: { query: { limit: 200 } } })));
const limits = useLoad(() => ok(http.GET("/session-limits")));
const form = ref({ idle: "", max: "", persistent: false });
watch(
  limits.data,
  (l) => l && (form.value = { idle: String(l.idleMinutes), max: String(l.maxHours), persistent: l.persistent }),
);
const { error: actError, busy, act } = useAct();
const end = (s: Session) =>
  confirm(
    `End this session of ${s.person}? ${s.applications.length} applications are told; the person has to sign in again.`,
  ) &&
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
    <TextBox v-model="search" label="Search" hint="How a name begins, or an address" /><SelectBox
      v-model="application"
      label="Went to"
      :options="[
        ['', 'any application'],
        ...(apps.data.value?.items ?? []).map((a) => [a.slug, a.name] as [string, string]),
      ]"
    /><SelectBox
      v-model="ended"
      label="State"
      :options="[
        ['', 'open'],
        ['yes', 'also those that ended'],
      ]"
    />
  </div>
  <SessionTable
    :sessions="data?.items ?? []"
    :busy="busy"
    person
    :readonly="!session.engineer"
    empty="Nobody has a session now. Each sign-in in a browser begins one."
    @end="end"
  />
  <p v-if="data?.next"><ElButton @click="after = data.next ?? ''">Next page</ElButton></p>
  <p v-if="actError" class="error" role="alert">{{ actError }}</p>
  <section v-if="limits.data.value" class="limits">
    <h2>How long they last</h2>
    <form class="panel" @submit.prevent="save">
      <div class="row choice">
        <TextBox
          v-model="form.idle"
          label="Minutes unused"
          hint="After that the person is asked again."
          type="number"
          :disabled="!session.owner"
        /><TextBox v-model="form.max" label="Hours at most" type="number" :disabled="!session.owner" />
      </div>
      <CheckBox
        v-model="form.persistent"
        label="They outlive the browser"
        hint="Otherwise they go when the browser is closed."
      /><ElButton v-if="session.owner" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    </form>
  </section>
</template>

<style scoped>
.choice {
  gap: 20px;
  margin-bottom: 8px;
  align-items: end;
}
.choice :deep(.field) {
  min-width: 14rem;
  margin: 0;
}
.limits {
  margin-top: 28px;
  max-width: 620px;
}
</style>
