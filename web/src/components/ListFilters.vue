<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { useFound, type Findable } from "../composables/found";
import ObjectPick from "./ObjectPick.vue";

// What narrows a list, and what holds of it as chips.
type Filter = {
  name: string;
  label: string;
  options?: [string, string][];
  /** Objects are found by their names. */
  of?: Findable;
  /** Words are typed; the text says what. */
  text?: string;
  date?: boolean;
};
const props = defineProps<{ filters: Filter[]; query: Record<string, string> }>();
const emit = defineEmits<{ set: [name: string, value: string] }>();
const names = Object.fromEntries(
  (["applications", "providers", "groups"] as const).map((of) => [
    of,
    useFound(
      () => of,
      () => props.filters.filter((f) => f.of === of).flatMap((f) => props.query[f.name] ?? []),
    ).names,
  ]),
);
const chips = computed(() =>
  props.filters.flatMap((f) => {
    const held = props.query[f.name];
    if (!held) return [];
    const words = f.of ? names[f.of]!.value.get(held) : f.options?.find(([v]) => v === held)?.[1];
    const day = f.date ? new Date(held).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" }) : held;
    return [{ name: f.name, text: `${f.label}: ${words ?? day}` }];
  }),
);
const all = () => chips.value.forEach((c) => emit("set", c.name, ""));
</script>

<template>
  <template v-for="f in filters" :key="f.name">
    <ObjectPick
      v-if="f.of"
      class="filter"
      :of="f.of"
      :label="f.label"
      none="all"
      :model-value="query[f.name] ?? ''"
      @update:model-value="emit('set', f.name, String($event ?? ''))"
      >{{ f.label }}</ObjectPick
    >
    <ElInput
      v-else-if="f.text"
      class="filter"
      clearable
      :aria-label="f.label"
      :placeholder="f.text"
      :model-value="query[f.name] ?? ''"
      @change="emit('set', f.name, String($event).trim())"
      ><template #prefix>{{ f.label }}</template></ElInput
    >
    <ElDatePicker
      v-else-if="f.date"
      class="filter"
      type="datetime"
      :aria-label="f.label"
      :placeholder="f.label"
      format="DD MMM YYYY HH:mm"
      :model-value="query[f.name] ? new Date(query[f.name]!) : undefined"
      @update:model-value="emit('set', f.name, $event ? ($event as Date).toISOString() : '')"
    />
    <ElSelect
      v-else
      class="filter"
      :model-value="query[f.name] ?? ''"
      :aria-label="f.label"
      :filterable="(f.options?.length ?? 0) > 12"
      @change="emit('set', f.name, $event)"
    >
      <template #prefix>{{ f.label }}</template>
      <ElOption value="" label="all" />
      <ElOption v-for="[v, t] in f.options" :key="v" :value="v" :label="t" />
    </ElSelect>
  </template>
  <p v-if="chips.length" class="row chips">
    <ElTag v-for="c in chips" :key="c.name" type="info" closable @close="emit('set', c.name, '')">{{ c.text }}</ElTag>
    <ElButton v-if="chips.length > 1" text size="small" @click="all">Take all away</ElButton>
  </p>
</template>

<style scoped>
.filter :deep(.el-input__prefix) {
  margin-right: 6px;
  color: var(--soft);
}
.filter,
.row > .filter {
  width: auto;
  flex: 0 1 auto;
  min-width: 160px;
  max-width: 250px;
}
.chips {
  flex-basis: 100%;
  order: 9;
  margin: 0;
  gap: 8px;
}
</style>
