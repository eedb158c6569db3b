<script setup lang="ts" generic="T">
import { ElButton } from "element-plus";
import type { InputInstance } from "element-plus";
import { computed, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useLoad } from "../composables/load";
import { useOrder } from "../composables/order";

const props = defineProps<{
  load: (query: Record<string, string>) => Promise<{ items: T[]; next?: string }>;
  search: string;
  filters?: { name: string; label: string; options: [string, string][] }[];
}>();
const route = useRoute();
const router = useRouter();
const text = ref(String(route.query.search ?? ""));
const query = computed(() =>
  Object.fromEntries(
    Object.entries(route.query)
      .filter(([k]) => k !== "after")
      .map(([k, v]) => [k, String(v ?? "")]),
  ),
);
const rest = ref<T[]>([]) as { value: T[] };
const next = ref("");
const { data, error, busy } = useLoad(async () => {
  const got = await props.load(query.value);
  rest.value = [];
  next.value = got.next ?? "";
  return got;
}, [() => JSON.stringify(query.value)]);
const items = computed<T[]>(() => [...(data.value?.items ?? []), ...rest.value] as T[]);

let timer = 0;
watch(text, (value) => {
  clearTimeout(timer);
  timer = window.setTimeout(() => set("search", value), 150);
});
function set(name: string, value: string) {
  const q = { ...query.value, [name]: value };
  if (!value) delete q[name];
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
const chips = computed(() =>
  (props.filters ?? []).flatMap((f) => {
    const held = query.value[f.name];
    if (!held) return [];
    return [{ name: f.name, text: `${f.label}: ${f.options.find(([v]) => v === held)?.[1] ?? held}` }];
  }),
);

// The slash goes to the search, as long as nobody is typing.
const field = ref<InputInstance | null>(null);
function key(e: KeyboardEvent) {
  if (e.key !== "/" || e.ctrlKey || e.metaKey || (e.target as HTMLElement | null)?.matches?.("input,textarea")) return;
  e.preventDefault();
  field.value?.focus();
}
onMounted(() => addEventListener("keydown", key));
onBeforeUnmount(() => removeEventListener("keydown", key));
const narrowed = computed(() => Object.keys(query.value).length > 0);
</script>

<template>
  <div class="list-page">
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
      <ElSelect
        v-for="f in filters ?? []"
        :key="f.name"
        class="filter"
        :model-value="query[f.name] ?? ''"
        :aria-label="f.label"
        :filterable="f.options.length > 12"
        @change="set(f.name, $event)"
      >
        <template #prefix>{{ f.label }}</template>
        <ElOption value="" label="all" />
        <ElOption v-for="[v, t] in f.options" :key="v" :value="v" :label="t" />
      </ElSelect>
      <slot name="bar" />
      <span v-if="data" class="soft small count" role="status"
        >{{ items.length }}{{ next ? " shown, and more" : "" }}</span
      >
    </div>
    <p v-if="chips.length" class="row chips">
      <ElTag v-for="c in chips" :key="c.name" type="info" closable @close="set(c.name, '')">{{ c.text }}</ElTag>
    </p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <ElSkeleton v-if="busy && !data" :rows="6" animated />
    <template v-if="data">
      <slot v-if="items.length" :items="items" :sort="sort" :order="order" />
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
  width: min(340px, 100%);
}
.filter {
  width: auto;
  min-width: 150px;
}
.count {
  margin-left: auto;
}
.chips {
  margin: -4px 0 12px;
  gap: 8px;
}
.more {
  margin-top: 14px;
}
</style>
