<script setup lang="ts">
import { onMounted, ref } from "vue";

// A name, or names parted by commas, completed from what is known. What is known is asked for only while somebody types.
const props = defineProps<{ names: () => string[]; many?: boolean; label: string; placeholder?: string }>();
const value = defineModel<string>({ required: true });
const last = (text: string) => (props.many ? text.slice(text.lastIndexOf(",") + 1) : text).trim().toLowerCase();
function suggest(text: string, show: (found: { value: string }[]) => void) {
  const typed = last(text ?? "");
  const before = props.many && text.includes(",") ? text.slice(0, text.lastIndexOf(",") + 1) + " " : "";
  const names = props.names().filter((n) => n.toLowerCase() !== typed && n.toLowerCase().includes(typed));
  show(names.slice(0, 12).map((n) => ({ value: before + n })));
}
// The library names a chosen suggestion also where none is chosen, which readers of the screen would look for in vain.
const field = ref<HTMLElement | null>(null);
const unname = () => field.value?.querySelector("input")?.removeAttribute("aria-activedescendant");
onMounted(unname);
</script>

<template>
  <div ref="field">
    <ElAutocomplete
      v-model="value"
      class="mono name-input"
      :aria-label="label"
      :placeholder="placeholder"
      :fetch-suggestions="suggest"
      :debounce="80"
      :trigger-on-focus="false"
      spellcheck="false"
      autocomplete="off"
      @blur="unname"
    />
  </div>
</template>

<style scoped>
.name-input {
  width: 100%;
}
</style>
