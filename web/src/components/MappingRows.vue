<script setup lang="ts">
import { nextTick, ref } from "vue";
import type { RuleSet } from "../api/client";
import { moved, type Made, type Row } from "../composables/mapping";
import { few } from "../composables/text";
import MappingRow from "./MappingRow.vue";

// The rules of a mapping in their order, to be changed.
defineProps<{
  direction: "in" | "out";
  openid?: boolean;
  sets: RuleSet[];
  made: (Made | undefined)[];
  sources: () => string[];
  targets: () => string[];
}>();
const rows = defineModel<Row[]>({ required: true });
const place = ref<HTMLElement | null>(null);
const dragged = ref(-1);

/** Moves a rule; the handle keeps the focus, so that the keyboard can go on. */
function move(from: number, to: number) {
  if (from < 0 || to < 0 || to >= rows.value.length || from === to) return;
  rows.value = moved(rows.value, from, to);
  void nextTick(() => place.value?.querySelectorAll<HTMLElement>(".handle")[to]?.focus());
}
function drop(e: DragEvent) {
  const row = (e.target as HTMLElement).closest("li.rule");
  if (row) move(dragged.value, [...place.value!.querySelectorAll("li.rule")].indexOf(row));
  dragged.value = -1;
}
const words = (values: string[]) => (values.length ? few(values, 3) : "");
</script>

<template>
  <div class="mapping">
    <p v-if="!rows.length" class="soft">There is no rule yet.</p>
    <ol v-else ref="place" :class="{ openid }" @dragover.prevent @drop.prevent="drop">
      <li class="names soft small" aria-hidden="true">
        <span></span><span>{{ direction === "in" ? "Sets" : "Attribute" }}</span
        ><span>{{ direction === "in" ? "From what came" : "From the profile" }}</span
        ><span>Steps</span><span v-if="openid">Place</span><span>Must</span><span>Makes</span><span></span>
      </li>
      <MappingRow
        v-for="(row, i) in rows"
        :key="i"
        :model-value="row"
        :number="i + 1"
        :openid="openid"
        :sets="sets"
        :sources="sources"
        :targets="targets"
        :makes="made[i] && words(made[i]!.values)"
        :problem="made[i]?.problem"
        @move="move(i, i + $event)"
        @drag="dragged = i"
        @away="rows.splice(i, 1)"
      />
    </ol>
  </div>
</template>

<style scoped>
.mapping {
  container-type: inline-size;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  column-gap: 12px;
  grid-template-columns:
    30px minmax(140px, 1.1fr) minmax(250px, 1.5fr) minmax(110px, 1fr)
    44px minmax(130px, 1fr) 34px;
}
ol.openid {
  grid-template-columns:
    30px minmax(140px, 1.1fr) minmax(250px, 1.5fr) minmax(110px, 1fr)
    120px 44px minmax(110px, 1fr) 34px;
}
.names {
  display: grid;
  grid-column: 1 / -1;
  grid-template-columns: subgrid;
  padding-bottom: 4px;
}
@container (max-width: 860px) {
  ol,
  ol.openid {
    grid-template-columns: 1fr;
  }
  .names {
    display: none;
  }
}
</style>
