<script setup lang="ts" generic="T">
import { ElButton } from "element-plus";
import type { InputInstance } from "element-plus";
import { computed, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useChosen } from "../composables/chosen";
import type { Findable } from "../composables/found";
import { listMemory } from "../composables/listmemory";
import { useLoad } from "../composables/load";
import { useOrder } from "../composables/order";
import { useSession } from "../composables/session";
import ColumnChoice from "./ColumnChoice.vue";
import ListFilters from "./ListFilters.vue";
import SilentNodes from "./SilentNodes.vue";

/**
 * A list that the service searches, narrows and sorts. What narrows it stands in the address and is kept for whoever
 * chose it; the arrow keys go from row to row, the slash to the search.
 */
const props = defineProps<{
  load: (query: Record<string, string>) => Promise<{ items: T[]; next?: string; cut?: boolean; silent?: string[] }>;
  search: string;
  filters?: {
    name: string;
    label: string;
    options?: [string, string][];
    of?: Findable;
    text?: string;
    date?: boolean;
  }[];
  columns?: [name: string, label: string][];
  /** The key of a row, for lists of which many can be chosen. */
  rowKey?: (row: T) => string;
}>();
const route = useRoute();
const router = useRouter();
const memory = listMemory(useSession().me?.name ?? "", route.path);
const text = ref(String(route.query.search ?? ""));
const query = computed(() =>
  Object.fromEntries(
    Object.entries(route.query)
      .filter(([k]) => k !== "after")
      .map(([k, v]) => [k, String(v ?? "")]),
  ),
);
const kept = memory.filters();
const recalls = !Object.keys(route.query).length && Object.keys(kept).length > 0;
if (recalls) void router.replace({ query: kept });

const rest = ref<T[]>([]) as { value: T[] };
const next = ref("");
const turn = ref(0);
const { data, error, busy } = useLoad(async () => {
  const got = await props.load(query.value);
  rest.value = [];
  next.value = got.next ?? "";
  return got;
}, [() => JSON.stringify(query.value), turn]);
const items = computed<T[]>(() => [...(data.value?.items ?? []), ...rest.value] as T[]);

let timer = 0;
watch(text, (value) => {
  clearTimeout(timer);
  timer = window.setTimeout(() => set("search", value), 150);
});
watch(
  () => query.value.search,
  (held) => (text.value = held ?? ""),
);
function set(name: string, value: string) {
  const q = { ...query.value, [name]: value };
  if (!value) delete q[name];
  memory.keepFilters(Object.fromEntries(Object.entries(q).filter(([k]) => k !== "search")));
  void router.replace({ query: q });
}
async function more() {
  const mine = JSON.stringify(query.value);
  const got = await props.load({ ...query.value, after: next.value });
  if (mine !== JSON.stringify(query.value)) return; // the list is another one by now
  rest.value = [...rest.value, ...got.items];
  next.value = got.next ?? "";
}
const { sort, order } = useOrder(
  () => query.value.sort,
  (value) => set("sort", value),
);
const chosen = useChosen<T>((row) => props.rowKey?.(row) ?? "");
const hidden = ref(memory.hidden());
watch(hidden, (now) => memory.keepHidden(now));
const shows = (column: string) => !hidden.value.includes(column);

const field = ref<InputInstance | null>(null);
const list = ref<HTMLElement | null>(null);
/** The link of each row, where the focus goes. */
const links = () => {
  const rows = [...(list.value?.querySelectorAll<HTMLElement>("tbody tr") ?? [])];
  return rows.flatMap((r) => r.querySelector<HTMLElement>("a[href]") ?? []);
};
/** The slash goes to the search as long as nobody types; the arrows go from row to row, and enter opens one. */
function key(e: KeyboardEvent) {
  const at = e.target as HTMLElement | null;
  const typing = !!at?.matches?.("input,textarea");
  if (e.ctrlKey || e.metaKey || e.altKey) return;
  if (e.key === "/" && !typing) field.value?.focus();
  else if (e.key === "ArrowDown" || e.key === "ArrowUp") {
    const searching = at?.matches?.("input[type=search]");
    const rows = links();
    const now = rows.indexOf(at!.closest("tr")?.querySelector<HTMLElement>("a[href]") ?? at!);
    if ((typing && !searching) || (now < 0 && !searching && at !== document.body)) return;
    const to = now + (e.key === "ArrowDown" ? 1 : -1);
    if (to < 0) field.value?.focus();
    else rows[Math.min(to, rows.length - 1)]?.focus();
  } else return;
  e.preventDefault();
}
onMounted(() => addEventListener("keydown", key));
onBeforeUnmount(() => removeEventListener("keydown", key));
const narrowed = computed(() => Object.keys(query.value).some((k) => k !== "sort"));
const reload = () => void turn.value++;
defineExpose({ reload });
</script>

<template>
  <div ref="list" class="list-page">
    <div class="row bar">
      <ElInput
        v-if="search"
        ref="field"
        v-model="text"
        class="search"
        type="search"
        clearable
        :aria-label="search"
        :placeholder="`${search}  ( / )`"
      />
      <ListFilters v-if="filters" :filters="filters" :query="query" @set="set" />
      <slot name="bar" />
      <span class="end">
        <ColumnChoice v-if="columns" v-model="hidden" :columns="columns" />
        <span v-if="data" class="soft small" role="status">{{ items.length }}{{ next ? " shown, and more" : "" }}</span>
      </span>
    </div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <ElSkeleton v-if="busy && !data" :rows="6" animated />
    <p v-if="data?.cut" class="soft small" role="note">
      More begin so than are looked through. A longer text finds the others.
    </p>
    <SilentNodes :nodes="data?.silent" />
    <template v-if="data">
      <slot v-if="rowKey && chosen.count.value" name="many" :chosen="chosen" :reload="reload" />
      <slot v-if="items.length" :items="items" :sort="sort" :order="order" :chosen="chosen" :shows="shows" />
      <div v-else class="panel empty">
        <slot v-if="!narrowed" name="empty" />
        <p v-else>Nothing fits what you search for.</p>
      </div>
      <ElButton v-if="next" class="more" @click="more">Show more</ElButton>
    </template>
  </div>
</template>

<style scoped>
.bar {
  margin: 6px 0 14px;
}
.search {
  width: min(400px, 100%);
}
.end {
  margin-left: auto;
  display: flex;
  gap: 14px;
  align-items: center;
}
.more {
  margin-top: 14px;
}
</style>
