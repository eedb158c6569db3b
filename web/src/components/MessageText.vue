<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, nextTick, ref, watch } from "vue";
import { docLines, hits, seen, unlike } from "../composables/document";

// A message with numbered lines, parts that fold, and a search. What another message doesn't have is marked.
const props = defineProps<{ text: string; label: string; other?: string }>();
const many = 1500;
const all = ref(false);
const folded = ref(new Set<number>());
const search = ref("");
const place = ref<HTMLElement | null>(null);
const lines = computed(() => docLines(props.text));
const shown = computed(() => {
  const list = seen(lines.value, folded.value);
  return all.value ? list : list.slice(0, many);
});
const found = computed(() => hits(lines.value, search.value));
const marked = computed(() => (props.other === undefined ? new Set<number>() : unlike(lines.value, props.other)));
const at = ref(0);
watch(
  () => props.text,
  () => (folded.value = new Set()),
);
watch(found, () => (at.value = 0));

function fold(line: number) {
  const next = new Set(folded.value);
  if (!next.delete(line)) next.add(line);
  folded.value = next;
}
/** Goes to the next line that holds what is searched for. */
async function go() {
  if (!found.value.length) return;
  const number = found.value[at.value % found.value.length]!;
  at.value++;
  folded.value = new Set();
  if (number > many) all.value = true;
  await nextTick();
  place.value?.querySelector(`[data-line="${number}"]`)?.scrollIntoView({ block: "nearest" });
}
const copied = ref(false);
async function copy() {
  await navigator.clipboard.writeText(props.text);
  copied.value = true;
  setTimeout(() => (copied.value = false), 1500);
}
</script>

<template>
  <div class="message">
    <div class="row tools">
      <ElInput
        v-model="search"
        size="small"
        clearable
        class="find"
        :aria-label="`Search in ${label}`"
        placeholder="Search in it"
        @keydown.enter="go"
      />
      <span v-if="search.trim()" class="soft small" role="status">{{ found.length }} lines</span>
      <ElButton size="small" class="end" :aria-label="`Copy ${label}`" @click="copy">{{
        copied ? "Copied" : "Copy"
      }}</ElButton>
    </div>
    <div ref="place" class="lines mono" tabindex="0" role="group" :aria-label="label">
      <div
        v-for="l in shown"
        :key="l.number"
        class="line-of"
        :class="{ hit: search.trim() && found.includes(l.number), unlike: marked.has(l.number) }"
        :data-line="l.number"
      >
        <span class="number" aria-hidden="true">{{ l.number }}</span>
        <ElButton
          v-if="l.until && lines.length > 3"
          link
          class="fold"
          :aria-label="`Fold line ${l.number}`"
          :aria-expanded="!folded.has(l.number)"
          @click="fold(l.number)"
          >{{ folded.has(l.number) ? "▸" : "▾" }}</ElButton
        >
        <span v-else class="fold"></span>
        <span class="text"
          >{{ l.text }}<span v-if="folded.has(l.number)" class="soft"> … {{ l.until! - l.number }} lines</span></span
        >
      </div>
      <ElButton v-if="!all && shown.length === many" size="small" @click="all = true">Show all of it</ElButton>
    </div>
  </div>
</template>

<style scoped>
.message {
  margin-top: 8px;
}
.tools {
  margin-bottom: 6px;
}
.find {
  width: 12rem;
}
.end {
  margin-left: auto;
}
.lines {
  max-height: 460px;
  overflow: auto;
  background: var(--well);
  border-radius: 3px;
  padding: 8px 0;
  font-size: 12.5px;
  line-height: 1.5;
}
.line-of {
  display: grid;
  grid-template-columns: 2.6rem 24px minmax(0, 1fr);
  padding-right: 10px;
}
.number {
  color: var(--soft);
  text-align: right;
  padding-right: 4px;
  user-select: none;
}
.fold {
  height: 24px;
  min-height: 0;
  align-self: start;
  margin-top: -3px;
}
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.hit {
  background: var(--mark);
}
.unlike {
  background: var(--brass-tint);
  box-shadow: inset 3px 0 0 var(--brass-line);
}
</style>
