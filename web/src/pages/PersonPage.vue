<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import PersonForm from "../components/PersonForm.vue";
import PersonKeys from "../components/PersonKeys.vue";
import PersonLinks from "../components/PersonLinks.vue";
import SessionTable from "../components/SessionTable.vue";
import TimeText from "../components/TimeText.vue";
import TraceTable from "../components/TraceTable.vue";
import { useAct, useLoad } from "../composables/load";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id ?? ""));
const fresh = computed(() => !id.value);
const params = () => ({ path: { id: id.value } });
const {
  data: person,
  error,
  missing,
} = useLoad(async () => (fresh.value ? null : ok(http.GET("/people/{id}", { params: params() }))), [id]);
const { data: traces } = useLoad(
  async () =>
    person.value ? ok(http.GET("/traces", { params: { query: { person: person.value.id, limit: 5 } } })) : null,
  [() => person.value?.id],
);
const sessions = useLoad(
  async () =>
    person.value ? ok(http.GET("/sessions", { params: { query: { person: person.value.id, limit: 20 } } })) : null,
  [() => person.value?.id],
);
const { error: failed, busy, act } = useAct();
const endAll = async () =>
  (await sure(`End all sessions of ${person.value!.name}? Their applications are told.`, "End them")) &&
  act(async () => {
    await ok(http.DELETE("/people/{id}/sessions", { params: params() }));
    await sessions.again();
  });
const endOne = (s: { id: string }) =>
  act(async () => {
    await ok(http.DELETE("/sessions/{id}", { params: { path: { id: s.id } } }));
    await sessions.again();
  });
const remove = async () =>
  (await sure(
    `Delete ${person.value!.name}, with ${person.value!.links.length} links and all assignments? Traces and journal lines stay.`,
    "Delete it",
  )) &&
  act(async () => {
    await ok(http.DELETE("/people/{id}", { params: params() }));
    await router.push("/people");
  });
</script>

<template>
  <div v-if="missing" class="panel empty">
    <p>There is no such person.</p>
    <RouterLink to="/people">All people</RouterLink>
  </div>
  <p v-else-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="fresh || person">
    <div class="head">
      <div>
        <h1>{{ person?.name ?? "A new person" }}</h1>
        <p v-if="person" class="sub">
          {{ person.type }} · {{ person.active ? "active" : "not active" }} · known since
          <TimeText :at="person.created" />
        </p>
      </div>
    </div>
    <div class="cols">
      <PersonForm :person="person" @made="router.replace(`/people/${$event}`)" @saved="person = $event" />
      <div v-if="person" class="stack">
        <PersonLinks :person="person" @changed="person = $event" />
        <PersonKeys v-if="person.login" :person="person" @changed="person = $event" />
        <section class="panel">
          <h2>Accounts</h2>
          <div v-for="a in person.accounts" :key="a.slug" class="item">
            <RouterLink :to="`/applications/${a.slug}`"
              ><b>{{ a.application }}</b></RouterLink
            ><br /><span class="mono">{{ a.subject }}</span
            ><br /><span class="soft small">last <TimeText :at="a.lastAt" from /></span>
          </div>
          <p v-if="!person.accounts.length" class="soft">Has signed in to no application yet.</p>
        </section>
      </div>
    </div>
    <section v-if="person" class="later">
      <h2>Sessions</h2>
      <SessionTable :sessions="sessions.data.value?.items ?? []" :busy="busy" empty="None is open." @end="endOne" />
      <p v-if="sessions.data.value?.items.length">
        <ElButton size="small" type="danger" :loading="busy" @click="endAll">End all of them</ElButton>
      </p>
    </section>
    <section v-if="person" class="later">
      <h2>Newest sign-ins</h2>
      <TraceTable :traces="traces?.items ?? []" empty="No sign-in is kept." />
    </section>
    <p v-if="person" class="later">
      <ElButton type="danger" @click="remove">Delete this person</ElButton>
    </p>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
  </template>
</template>

<style scoped>
.item {
  border-bottom: 1px solid var(--hair);
  padding: 8px 0;
}
.later {
  margin-top: 28px;
}
</style>
