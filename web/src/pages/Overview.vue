<script setup lang="ts">
import { computed } from "vue";
import { http, ok } from "../api/client";
import DayBars from "../components/DayBars.vue";
import TraceTable from "../components/TraceTable.vue";
import { useLoad, useTicker } from "../composables/load";
import { useSession } from "../composables/session";
import {
  againstLastWeek,
  endingLines,
  foundLines,
  moveLines,
  proposalLines,
  refusedLine,
  type Line,
} from "../composables/waiting";

const session = useSession();
const { data, error, again } = useLoad(() => ok(http.GET("/overview")));
const { data: certificates } = useLoad(() => ok(http.GET("/certificates", { params: { query: { limit: 12 } } })));
const { data: proposals } = useLoad(() =>
  ok(http.GET("/proposals", { params: { query: { state: "waiting", limit: 8 } } })),
);
const { data: moves } = useLoad(() => ok(http.GET("/moves")));
const { data: statistics } = useLoad(() => ok(http.GET("/statistics", { params: { query: { days: "14" } } })));
useTicker(5000, () => void again());

/** What needs somebody, in the order in which it does. */
const lines = computed<Line[]>(() => [
  ...foundLines(data.value?.findings ?? []),
  ...endingLines(
    (certificates.value?.items ?? []).filter((c) => !c.superseded),
    Date.now(),
  ),
  ...proposalLines(proposals.value?.items ?? []),
  ...moveLines(moves.value?.items ?? []),
  ...refusedLine(statistics.value),
]);
const most = 12;
const days = computed(() => statistics.value?.buckets ?? []);
const weeks = computed(() => againstLastWeek(days.value));
const fresh = computed(() => !!data.value && (!data.value.applications || !data.value.providers));
const begun = computed(() => [!!data.value?.providers, !!data.value?.applications, !!data.value?.recent.length]);
</script>

<template>
  <div class="head">
    <div>
      <h1>Overview</h1>
      <p class="sub">{{ data?.publicUrl }}</p>
    </div>
  </div>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <ElSkeleton v-if="!data && !error" :rows="8" animated />
  <template v-if="data">
    <ul class="figures">
      <li>
        <RouterLink to="/applications">
          <b>{{ data.applications }}{{ data.more ? "+" : "" }}</b> application{{ data.applications === 1 ? "" : "s" }}
        </RouterLink>
      </li>
      <li>
        <RouterLink to="/providers"
          ><b>{{ data.providers }}</b> provider{{ data.providers === 1 ? "" : "s" }}</RouterLink
        >
      </li>
      <li>
        <RouterLink to="/traces?outcome=signed-in"
          ><b>{{ data.signedIn }}</b> signed in today</RouterLink
        >
      </li>
      <li>
        <RouterLink to="/traces?outcome=refused"
          ><b>{{ data.refused }}</b> refused today</RouterLink
        >
      </li>
      <li v-if="weeks.now + weeks.before" class="week">
        <RouterLink to="/statistics?days=30"
          ><b>{{ weeks.now }}</b> refused in seven days, {{ weeks.before }} in those before</RouterLink
        >
        <DayBars :days="days.slice(-14)" />
      </li>
    </ul>
    <section v-if="fresh" class="panel">
      <h2>The first three steps</h2>
      <p class="soft">
        The gate stands between applications and identity providers. Begin with either side; the order does not matter.
      </p>
      <ElSteps :active="begun.findIndex((b) => !b)" finish-status="success" align-center>
        <ElStep title="Connect a provider" description="Who vouches for people" />
        <ElStep title="Connect an application" description="What people sign in to" />
        <ElStep title="Rehearse" description="A sign-in that harms nobody" />
      </ElSteps>
      <p v-if="session.engineer" class="row">
        <RouterLink to="/providers/new">Connect a provider</RouterLink>
        <RouterLink to="/applications/new">Connect an application</RouterLink>
      </p>
    </section>
    <section v-if="lines.length || !fresh" class="needs">
      <h2>What needs somebody</h2>
      <ElTable
        v-if="lines.length"
        table-layout="auto"
        :data="lines.slice(0, most)"
        row-key="key"
        :show-header="false"
        aria-label="What needs somebody"
      >
        <ElTableColumn width="110">
          <template #default="{ row: l }">
            <span class="tag" :class="l.state">{{ l.word }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn>
          <template #default="{ row: l }">
            <RouterLink :to="l.to"
              ><b>{{ l.title }}</b></RouterLink
            >
            <div v-if="l.text" class="soft small">{{ l.text }}</div>
          </template>
        </ElTableColumn>
      </ElTable>
      <p v-else class="soft">Nothing needs attention.</p>
      <p v-if="lines.length > most">
        <RouterLink to="/checkup">And {{ lines.length - most }} more in the checkup</RouterLink>
      </p>
    </section>
    <section v-if="!fresh || data.recent.length">
      <h2>Newest sign-ins</h2>
      <TraceTable :traces="data.recent" empty="Nobody has signed in yet. Rehearse an application to see how it goes." />
    </section>
  </template>
</template>

<style scoped>
.needs {
  margin-bottom: 28px;
}
.week {
  display: flex;
  gap: 12px;
  align-items: center;
}
.figures {
  list-style: none;
  padding: 0;
  margin: 0 0 24px;
  display: flex;
  align-items: center;
  gap: 12px 40px;
  flex-wrap: wrap;
  border-top: 1px solid var(--rule);
  border-bottom: 1px solid var(--rule);
}
.figures a {
  display: block;
  padding: 12px 0;
  color: var(--soft);
  text-decoration: none;
}
.figures a:hover {
  color: var(--sea);
  text-decoration: underline;
}
.figures b {
  font-size: 26px;
  color: var(--ink);
  margin-right: 6px;
  font-weight: 700;
}
</style>
