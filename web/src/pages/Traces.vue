<script setup lang="ts">
import { http, ok } from "../api/client";
import ListPage from "../components/ListPage.vue";
import TraceNav from "../components/TraceNav.vue";
import TraceTable from "../components/TraceTable.vue";
import { flowWords } from "../composables/text";

const load = (query: Record<string, string>) => ok(http.GET("/traces", { params: { query } }));
</script>

<template>
  <h1>Traces</h1>
  <p class="sub">The whole record of each sign-in, the newest first.</p>
  <TraceNav />
  <ListPage
    :load="load"
    :columns="[
      ['application', 'Application'],
      ['provider', 'Provider'],
      ['person', 'Person'],
      ['flow', 'Begun by'],
      ['took', 'Took'],
    ]"
    search="Reference, person, code or ID of a message"
    :filters="[
      { name: 'application', label: 'Application', of: 'applications' },
      { name: 'provider', label: 'Provider', of: 'providers' },
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
      { name: 'flow', label: 'Begun by', options: Object.entries(flowWords) },
      { name: 'code', label: 'Code', text: 'such as saml.expired' },
      { name: 'from', label: 'From', date: true },
      { name: 'until', label: 'Until', date: true },
    ]"
  >
    <template #default="{ items, shows }">
      <TraceTable :traces="items" :shows="shows" empty="" />
    </template>
    <template #empty>
      <p>A trace holds every message, check and decision of one sign-in. Rehearse an application to make the first.</p>
      <RouterLink to="/applications">Applications</RouterLink>
    </template>
  </ListPage>
</template>
