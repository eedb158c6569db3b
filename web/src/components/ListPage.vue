<script setup lang="ts" generic="T">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useLoad } from "../composables/load";

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
  const got = await props.load({ ...query.value, after: next.value });
  rest.value = [...rest.value, ...got.items];
  next.value = got.next ?? "";
}
const narrowed = computed(() => Object.keys(query.value).length > 0);
</script>

<template>
  <div class="row bar">
    <ElInput v-if="search" v-model="text" type="search" :aria-label="search" :placeholder="search" />
    <label v-for="f in filters ?? []" :key="f.name"
      >{{ f.label }}
      <ElSelect :model-value="query[f.name] ?? ''" @change="set(f.name, $event)"
        ><ElOption value="" label="all" data-value="" /><ElOption
          v-for="[v, t] in f.options"
          :key="v"
          :value="v"
          :label="t"
          :data-value="v" /></ElSelect
    ></label>
    <slot name="bar" />
  </div>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <p v-if="busy && !data" class="soft">Loading …</p>
  <template v-if="data">
    <slot v-if="items.length" :items="items" />
    <div v-else class="panel empty">
      <slot v-if="!narrowed" name="empty" />
      <p v-else>Nothing fits what you search for.</p>
    </div>
    <ElButton v-if="next" class="more" @click="more">Show more</ElButton>
  </template>
</template>

<style scoped>
.bar {
  margin: 6px 0 14px;
}
input {
  font: inherit;
  padding: 6px 12px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
  width: min(320px, 100%);
}
select {
  font: inherit;
  padding: 6px 8px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
}
label {
  font-size: 14px;
  color: var(--soft);
}
.more {
  margin-top: 14px;
}
</style>
