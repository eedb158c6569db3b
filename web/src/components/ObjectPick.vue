<script setup lang="ts">
import { computed } from "vue";
import { useFound, type Findable } from "../composables/found";

// One application, provider or group, or several, found by what is typed. The value is the short name.
const props = defineProps<{
  of: Findable;
  label?: string;
  /** What none chosen is called; without it one has to be chosen. */
  none?: string;
  multiple?: boolean;
  except?: string;
  /** What narrows the list beside the name. */
  narrow?: Record<string, string>;
  disabled?: boolean;
  placeholder?: string;
}>();
const value = defineModel<string | string[]>();
const emit = defineEmits<{ change: [value: string] }>();
const chosen = computed(() => ([] as string[]).concat(value.value ?? []).filter(Boolean));
const { items, busy, names, find } = useFound(
  () => props.of,
  () => chosen.value,
  () => props.narrow,
);
const options = computed(() => {
  const found = items.value.filter((i) => i.slug !== props.except);
  // The library reads the words of what is chosen once: an option is there when its name is known, and not before.
  const kept = chosen.value.filter((slug) => names.value.has(slug) && !found.some((i) => i.slug === slug));
  return [...kept.map((slug) => ({ slug, name: names.value.get(slug)! })), ...found];
});
const opened = (open: boolean) => open && void find("");
</script>

<template>
  <ElSelect
    v-model="value"
    filterable
    default-first-option
    remote
    remote-show-suffix
    :multiple="multiple"
    :clearable="none !== undefined && !multiple"
    :empty-values="none === undefined ? ['', null, undefined] : [null, undefined]"
    :value-on-clear="null"
    :remote-method="find"
    :loading="busy && !items.length"
    :disabled="disabled"
    :aria-label="label"
    :placeholder="placeholder ?? none ?? 'Type a part of the name'"
    no-data-text="Nothing fits."
    @visible-change="opened"
    @change="emit('change', $event)"
  >
    <template #prefix><slot /></template>
    <ElOption v-if="none !== undefined && !multiple" value="" :label="none" />
    <ElOption v-for="o in options" :key="o.slug" :value="o.slug" :label="o.name" />
  </ElSelect>
</template>
