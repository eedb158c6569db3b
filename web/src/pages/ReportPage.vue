<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type Report } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import ListFilters from "../components/ListFilters.vue";
import ReachTag from "../components/ReachTag.vue";
import TimeText from "../components/TimeText.vue";
import { useLoad } from "../composables/load";
import { useOrder } from "../composables/order";
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
function set(name: string, value: string) {
  const q: Record<string, string> = { ...query.value, [name]: value };
  if (side.value === "provider") q.side = "provider";
  if (!value) delete q[name];
  void router.replace({ query: q });
}
const { sort, order } = useOrder(
  () => query.value.sort,
  (value) => set("sort", value),
);
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
const when = new Date().toLocaleString(undefined, { dateStyle: "long", timeStyle: "short" });
const print = () => window.print();
const filters = computed(() => [
  { name: "kind", label: "Speaks", options: Object.entries(kindWords) },
  ...(side.value === "application" ? [{ name: "provider", label: "Provider", of: "providers" as const }] : []),
  {
    name: "expires",
    label: "Certificate ends",
    options: [
      ["30", "within 30 days"],
      ["60", "within 60 days"],
      ["180", "within half a year"],
    ] as [string, string][],
  },
  {
    name: "unused",
    label: "Unused",
    options: [
      ["30", "for 30 days"],
      ["90", "for 90 days"],
      ["365", "for a year"],
    ] as [string, string][],
  },
]);
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
      }}</ElButton>
      <a class="el-button" :href="csv" :download="`${side}s.csv`">As CSV</a>
      <ElButton @click="print">Print</ElButton>
    </div>
  </div>
  <EstateNav :side="side === 'provider' ? 'providers' : 'applications'" class="no-print" />
  <div class="row bar no-print">
    <ElInput
      class="search"
      type="search"
      :model-value="query.search"
      placeholder="Name or owner"
      aria-label="Name, short name or owner"
      @change="set('search', $event)"
    />
    <ListFilters :filters="filters" :query="query" @set="set" />
    <ElCheckbox :model-value="!!query.findings" @change="set('findings', $event ? '1' : '')">with findings</ElCheckbox>
  </div>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <ElTable
    v-if="data?.items.length"
    table-layout="auto"
    :data="data.items"
    row-key="slug"
    :default-sort="order"
    @sort-change="sort"
  >
    <ElTableColumn prop="name" label="Name" sortable="custom">
      <template #default="{ row: l }">
        <RouterLink :to="`/${side}s/${l.slug}`"
          ><b>{{ l.name }}</b></RouterLink
        >
      </template>
    </ElTableColumn>
    <ElTableColumn prop="kind" label="Speaks" sortable="custom">
      <template #default="{ row: l }">{{ kindWords[l.kind] ?? l.kind }}</template>
    </ElTableColumn>
    <ElTableColumn prop="reach" label="Reach" sortable="custom">
      <template #default="{ row: l }">
        <ReachTag :reach="l.reach" />
      </template>
    </ElTableColumn>
    <ElTableColumn prop="owner" label="Owner" sortable="custom">
      <template #default="{ row: l }">{{ l.owner || "–" }}</template>
    </ElTableColumn>
    <ElTableColumn prop="providers" :label="side === 'provider' ? 'Applications' : 'Providers'" sortable="custom">
      <template #default="{ row: l }">
        <span class="small">{{ l.providers.join(", ") || "–" }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn prop="expires" label="Certificate ends" sortable="custom">
      <template #default="{ row: l }">
        <TimeText v-if="l.expires" :at="l.expires" from /><span v-else class="soft">–</span>
      </template>
    </ElTableColumn>
    <ElTableColumn prop="last" label="Last sign-in" sortable="custom">
      <template #default="{ row: l }">
        <TimeText :at="l.lastSignIn" from />
      </template>
    </ElTableColumn>
    <ElTableColumn prop="signins" label="30 days" sortable="custom" align="right">
      <template #default="{ row: l }">{{ l.signIns }}</template>
    </ElTableColumn>
    <ElTableColumn prop="people" label="People" sortable="custom" align="right">
      <template #default="{ row: l }">{{ l.people }}</template>
    </ElTableColumn>
    <ElTableColumn prop="findings" label="Findings" sortable="custom">
      <template #default="{ row: l }">
        <RouterLink v-if="l.broken + l.attention" :to="`/${side}s/${l.slug}`"
          ><span v-if="l.broken" class="tag broken">{{ l.broken }} broken</span>
          <span v-if="l.attention" class="tag attention">{{ l.attention }} to look at</span></RouterLink
        ><span v-else class="soft">–</span>
      </template>
    </ElTableColumn>
  </ElTable>
  <p v-else-if="data" class="panel empty">Nothing is so.</p>
  <ElButton v-if="data?.next" class="no-print" @click="more">Show more</ElButton>
</template>

<style scoped>
.bar {
  margin: 6px 0 14px;
  font-size: 14px;
  color: var(--soft);
}
.search {
  width: min(320px, 100%);
}
a.el-button {
  text-decoration: none;
}
</style>
