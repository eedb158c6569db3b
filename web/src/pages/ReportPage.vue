<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type Report } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import ReachTag from "../components/ReachTag.vue";
import TimeText from "../components/TimeText.vue";
import { useLoad } from "../composables/load";
import { kindWords } from "../composables/text";

const route = useRoute();
const router = useRouter();
const side = computed(() => (route.query.side === "provider" ? "provider" : "application"));
const names = ["search", "kind", "provider", "owner", "reach", "tag", "expires", "unused", "findings", "sort"] as const;
const query = computed(() =>
  Object.fromEntries(names.filter((n) => route.query[n]).map((n) => [n, String(route.query[n])])),
);
const load = (after?: string) =>
  ok(
    http.GET("/reports/{side}", {
      params: { path: { side: side.value }, query: { ...query.value, after, limit: 200 } },
    }),
  );
const { data, error } = useLoad<Report>(() => load(), [() => JSON.stringify(query.value), side]);
const { data: providers } = useLoad(() => ok(http.GET("/providers", { params: { query: { limit: 200 } } })));
function set(name: string, value: string) {
  const q: Record<string, string> = { ...query.value, [name]: value };
  if (side.value === "provider") q.side = "provider";
  if (!value) delete q[name];
  void router.replace({ query: q });
}
const sort = (name: string) => set("sort", query.value.sort === name ? `-${name}` : name);
const sorted = (name: string) =>
  query.value.sort === name ? "ascending" : query.value.sort === `-${name}` ? "descending" : undefined;
const csv = computed(() => `/api/v1/reports/${side.value}/csv?${new URLSearchParams(query.value)}`);
async function more() {
  const got = await load(data.value!.next);
  data.value = { ...data.value!, items: [...data.value!.items, ...got.items], next: got.next };
}
const counts = computed(() =>
  Object.entries(data.value?.by.kind ?? {})
    .map(([k, n]) => `${n} ${kindWords[k] ?? k}`)
    .join(" · "),
);
const columns = computed<[string, string][]>(() => [
  ["name", "Name"],
  ["kind", "Speaks"],
  ["reach", "Reach"],
  ["owner", "Owner"],
  ["providers", side.value === "provider" ? "Applications" : "Providers"],
  ["expires", "Certificate ends"],
  ["last", "Last sign-in"],
  ["signins", "30 days"],
  ["people", "People"],
  ["findings", "Findings"],
]);
const when = new Date().toLocaleString(undefined, { dateStyle: "long", timeStyle: "short" });
const print = () => window.print();
</script>

<template>
  <div class="head">
    <div>
      <h1>Report: {{ side === "provider" ? "providers" : "applications" }}</h1>
      <p class="sub">
        {{ data?.count ?? "…" }} of them, {{ when }}<template v-if="counts"> · {{ counts }}</template>
      </p>
    </div>
    <div class="row no-print">
      <ElButton @click="router.replace({ query: side === 'provider' ? {} : { side: 'provider' } })">{{
        side === "provider" ? "Applications" : "Providers"
      }}</ElButton
      ><a class="el-button" :href="csv" :download="`${side}s.csv`">As CSV</a><ElButton @click="print">Print</ElButton>
    </div>
  </div>
  <EstateNav :side="side === 'provider' ? 'providers' : 'applications'" class="no-print" />
  <div class="row bar no-print">
    <input
      type="search"
      :value="query.search"
      placeholder="Name or owner"
      aria-label="Name, short name or owner"
      @change="set('search', ($event.target as HTMLInputElement).value)"
    />
    <label
      >Speaks
      <select :value="query.kind ?? ''" @change="set('kind', ($event.target as HTMLSelectElement).value)">
        <option value="">all</option>
        <option v-for="(w, k) in kindWords" :key="k" :value="k">{{ w }}</option>
      </select></label
    >
    <label v-if="side === 'application'"
      >Provider
      <select :value="query.provider ?? ''" @change="set('provider', ($event.target as HTMLSelectElement).value)">
        <option value="">all</option>
        <option v-for="p in providers?.items ?? []" :key="p.slug" :value="p.slug">{{ p.name }}</option>
      </select></label
    >
    <label
      >Certificate ends
      <select :value="query.expires ?? ''" @change="set('expires', ($event.target as HTMLSelectElement).value)">
        <option value="">whenever</option>
        <option value="30">within 30 days</option>
        <option value="60">within 60 days</option>
        <option value="180">within half a year</option>
      </select></label
    >
    <label
      >Unused
      <select :value="query.unused ?? ''" @change="set('unused', ($event.target as HTMLSelectElement).value)">
        <option value="">or not</option>
        <option value="30">for 30 days</option>
        <option value="90">for 90 days</option>
        <option value="365">for a year</option>
      </select></label
    >
    <label
      ><input
        type="checkbox"
        :checked="!!query.findings"
        @change="set('findings', ($event.target as HTMLInputElement).checked ? '1' : '')"
      />
      with findings</label
    >
  </div>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <table v-if="data?.items.length" class="list">
    <thead>
      <tr>
        <th v-for="[k, w] in columns" :key="k" scope="col" :aria-sort="sorted(k)">
          <button type="button" @click="sort(k)">
            {{ w }}<span v-if="sorted(k)" aria-hidden="true"> {{ sorted(k) === "ascending" ? "↑" : "↓" }}</span>
          </button>
        </th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="l in data.items" :key="l.slug">
        <td>
          <RouterLink :to="`/${side}s/${l.slug}`"
            ><b>{{ l.name }}</b></RouterLink
          >
        </td>
        <td>{{ kindWords[l.kind] ?? l.kind }}</td>
        <td><ReachTag :reach="l.reach" /></td>
        <td>{{ l.owner || "–" }}</td>
        <td class="small">{{ l.providers.join(", ") || "–" }}</td>
        <td><TimeText v-if="l.expires" :at="l.expires" from /><span v-else class="soft">–</span></td>
        <td><TimeText :at="l.lastSignIn" from /></td>
        <td>{{ l.signIns }}</td>
        <td>{{ l.people }}</td>
        <td>
          <RouterLink v-if="l.broken + l.attention" :to="`/${side}s/${l.slug}`"
            ><span v-if="l.broken" class="tag broken">{{ l.broken }} broken</span>
            <span v-if="l.attention" class="tag attention">{{ l.attention }} to look at</span></RouterLink
          ><span v-else class="soft">–</span>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else-if="data" class="panel empty">Nothing is so.</p>
  <ElButton v-if="data?.next" class="no-print" @click="more">Show more</ElButton>
</template>

<style scoped>
.bar {
  margin: 6px 0 14px;
  font-size: 14px;
  color: var(--soft);
}
.bar input[type="search"],
select {
  font: inherit;
  padding: 6px 10px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
}
.bar input[type="checkbox"] {
  width: 18px;
  height: 18px;
  accent-color: var(--sea);
  vertical-align: middle;
}
th button {
  background: none;
  border: 0;
  padding: 0;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
a.el-button {
  text-decoration: none;
}
@media print {
  table.list {
    font-size: 11px;
  }
}
</style>
