<script setup lang="ts">
import { computed } from "vue";
import { http, ok } from "../api/client";
import ListPage from "../components/ListPage.vue";
import TraceNav from "../components/TraceNav.vue";
import TraceTable from "../components/TraceTable.vue";
import { useLoad } from "../composables/load";

// As many as one page of the API holds; with more, the search above finds a trace by its names.
const names = { params: { query: { limit: 200 } } };
const { data: applications } = useLoad(() => ok(http.GET("/applications", names)));
const { data: providers } = useLoad(() => ok(http.GET("/providers", names)));
const named = (list?: { slug: string; name: string }[]) => (list ?? []).map((o): [string, string] => [o.slug, o.name]);
const parties = computed(() => [
  { name: "application", label: "Application", options: named(applications.value?.items) },
  { name: "provider", label: "Provider", options: named(providers.value?.items) },
]);
const load = (query: Record<string, string>) => ok(http.GET("/traces", { params: { query } }));
</script>

<template>
  <h1>Traces</h1>
  <p class="sub">The whole record of each sign-in, the newest first.</p>
  <TraceNav />
  <ListPage
    :load="load"
    search="Reference, person, code or ID of a message"
    :filters="[
      ...parties,
      {
        name: 'outcome',
        label: 'Outcome',
        options: [
          ['signed-in', 'signed in'],
          ['refused', 'refused'],
          ['not-taken-up', 'not taken up'],
          ['waiting', 'tokens not fetched yet'],
          ['open', 'not finished'],
        ],
      },
      {
        name: 'rehearsal',
        label: 'Rehearsals',
        options: [
          ['yes', 'only'],
          ['no', 'none'],
        ],
      },
    ]"
  >
    <template #default="{ items }">
      <TraceTable :traces="items" empty="" />
    </template>
    <template #empty>
      <p>A trace holds every message, check and decision of one sign-in. Rehearse an application to make the first.</p>
      <RouterLink to="/applications">Applications</RouterLink>
    </template>
  </ListPage>
</template>
