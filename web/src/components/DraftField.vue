<script setup lang="ts">
import { computed } from "vue";
import { putAt, valueAt } from "../composables/canonical";
import { useEditing } from "../composables/edits";

/**
 * One value of the page's draft, by its path, with what the service said of it. Where its shape in the draft is another
 * than the one shown, v-model takes the place of the path's own value.
 */
const props = defineProps<{
  path: string;
  label: string;
  hint?: string;
  as?: "text" | "area" | "list" | "number" | "choice" | "check";
  options?: [value: string, words: string][];
  /** Words of people, not of machines. */
  plain?: boolean;
  /** What holds where nothing is said. */
  usual?: string;
  rows?: number;
  placeholder?: string;
  off?: boolean;
}>();
const other = defineModel<unknown>();
const edits = useEditing<object>();
const value = computed({
  get: () => (other.value === undefined ? valueAt(edits.draft.value, props.path) : other.value),
  set: (v) => {
    if (other.value === undefined) putAt(edits.draft.value, props.path, v);
    else other.value = v;
  },
});
const text = computed({
  get: () => String(value.value ?? ""),
  set: (v: string) => (value.value = props.plain ? v : v.trim()),
});
const choice = computed({
  get: () => String(value.value || (props.usual ?? "")),
  set: (v: string) => (value.value = v),
});
const list = computed({
  get: () => (value.value as string[] | undefined) ?? [],
  set: (v: string[] | undefined) => (value.value = (v ?? []).map((l) => l.trim()).filter(Boolean)),
});
const number = computed({
  get: () => (value.value ? Number(value.value) : undefined),
  set: (v: number | undefined | null) => (value.value = v ?? undefined),
});
const check = computed({ get: () => !!value.value, set: (v: boolean) => (value.value = v) });
const problem = computed(() => edits.problemAt(props.path));
const disabled = computed(() => edits.readonly.value || props.off);

/** What was copied from another list comes as lines. */
function paste(e: ClipboardEvent) {
  const lines = (e.clipboardData?.getData("text") ?? "").split(/[\s,]+/).filter(Boolean);
  if (lines.length < 2) return;
  e.preventDefault();
  list.value = [...list.value, ...lines.filter((l) => !list.value.includes(l))];
}
</script>

<template>
  <div v-if="as === 'check'" class="check">
    <ElCheckbox v-model="check" :disabled="disabled"
      ><b>{{ label }}</b
      ><small v-if="hint">{{ hint }}</small></ElCheckbox
    >
    <p v-if="problem" class="el-form-item__error">{{ problem }}</p>
  </div>
  <ElFormItem v-else :label="label" label-position="top" :error="problem || undefined">
    <ElSelect v-if="as === 'choice'" v-model="choice" :disabled="disabled" :empty-values="[null, undefined]">
      <ElOption v-for="[option, words] in options" :key="option" :value="option" :label="words" />
    </ElSelect>
    <ElInputTag
      v-else-if="as === 'list'"
      v-model="list"
      class="mono"
      :disabled="disabled"
      :placeholder="placeholder"
      :aria-label="label"
      save-on-blur
      trigger="Enter"
      @paste="paste"
    />
    <ElInputNumber
      v-else-if="as === 'number'"
      v-model="number"
      :disabled="disabled"
      :min="0"
      controls-position="right"
    />
    <ElInput
      v-else
      v-model="text"
      :type="as === 'area' ? 'textarea' : 'text'"
      :rows="rows ?? 2"
      :disabled="disabled"
      :class="{ mono: !plain }"
      :spellcheck="false"
      :placeholder="placeholder"
      autocomplete="off"
      @keydown.enter="as !== 'area' && edits.save()"
    />
    <small v-if="hint">{{ hint }}</small>
  </ElFormItem>
</template>
