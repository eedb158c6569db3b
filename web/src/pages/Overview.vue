<script setup lang="ts">
import { http, ok } from "../api/client";
import FindingList from "../components/FindingList.vue";
import TraceTable from "../components/TraceTable.vue";
import { useLoad, useTicker } from "../composables/load";

const { data, error, again } = useLoad(() => ok(http.GET("/overview")));
type Found = { kind?: string; slug?: string; station: string };
const place = (f: unknown) => {
  const { kind, slug, station } = f as Found;
  if (kind === "key") return "/keyring";
  return kind === "source" ? `/sources/${slug}` : `/${kind}s/${slug}?station=${station}`;
};
useTicker(5000, () => void again());
</script>

<template>
  <div class="head">
    <div>
      <h1>Overview</h1>
      <p class="sub">{{ data?.publicUrl }}</p>
    </div>
  </div>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="data">
    <ul class="figures">
      <li>
        <RouterLink to="/applications"
          ><b>{{ data.applications }}{{ data.more ? "+" : "" }}</b> application{{
            data.applications === 1 ? "" : "s"
          }}</RouterLink
        >
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
    </ul>
    <div v-if="!data.applications && !data.providers" class="panel empty">
      <p>
        The gate stands between applications and identity providers. Begin with either side; the order does not matter.
      </p>
      <p>
        <RouterLink to="/providers/new">Connect a provider</RouterLink> ·
        <RouterLink to="/applications/new">Connect an application</RouterLink>
      </p>
    </div>
    <div v-else class="cols">
      <section>
        <h2>Newest sign-ins</h2>
        <TraceTable
          :traces="data.recent"
          empty="Nobody has signed in yet. Rehearse an application to see how it goes."
        />
      </section>
      <section>
        <h2>Findings</h2>
        <FindingList :findings="data.findings" empty="Nothing needs attention.">
          <template #default="{ finding }">
            <RouterLink :to="place(finding)">{{ (finding as any).name }}</RouterLink>
          </template>
        </FindingList>
      </section>
    </div>
  </template>
</template>

<style scoped>
.figures {
  list-style: none;
  padding: 0;
  margin: 0 0 24px;
  display: flex;
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
