<script setup lang="ts">
import { ElButton } from "element-plus";
import { nextTick, ref } from "vue";
import type { RuleSet } from "../api/client";
import { kindOf, moved, type Made, type Row } from "../composables/mapping";
import NameInput from "./NameInput.vue";
import StepChips from "./StepChips.vue";

// The rules of a mapping in their order, with what each makes of the sample.
defineProps<{
  direction: "in" | "out";
  readonly?: boolean;
  openid?: boolean;
  sets: RuleSet[];
  made?: (Made | undefined)[];
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
function key(e: KeyboardEvent, i: number) {
  if (e.key !== "ArrowUp" && e.key !== "ArrowDown") return;
  e.preventDefault();
  move(i, i + (e.key === "ArrowUp" ? -1 : 1));
}
function drop(e: DragEvent) {
  const row = (e.target as HTMLElement).closest("tr");
  if (row?.parentElement) move(dragged.value, [...row.parentElement.children].indexOf(row));
  dragged.value = -1;
}
const words = { from: "", value: "always ", expr: "computed ", use: "rule set " };
const few = (values: string[]) =>
  values.length > 3 ? `${values.slice(0, 3).join(", ")} and ${values.length - 3} more` : values.join(", ");
const wordsFor = { expr: "given_name + ' ' + family_name", value: "the value", from: "names, separated by commas" };
</script>

<template>
  <div ref="place" @dragover.prevent @drop.prevent="drop">
    <ElTable table-layout="auto" :data="rows" empty-text="There is no rule yet." class="rules">
      <ElTableColumn v-if="!readonly" width="34">
        <template #header><span class="visually-hidden">Order</span></template>
        <template #default="{ $index: i }">
          <ElButton
            text
            size="small"
            class="handle"
            draggable="true"
            :aria-label="`Move rule ${i + 1}: arrow up, arrow down`"
            title="Drag it, or use the arrow keys"
            @keydown="key($event, i)"
            @dragstart="dragged = i"
            >⠿</ElButton
          >
        </template>
      </ElTableColumn>
      <ElTableColumn :label="direction === 'in' ? 'Sets' : 'Attribute'" min-width="170">
        <template #default="{ row, $index: i }">
          <span v-if="readonly" class="mono">{{ row.kind === "use" ? "rule set" : row.set }}</span>
          <NameInput
            v-else-if="row.kind !== 'use'"
            v-model="row.set"
            :names="targets"
            :label="`Name of rule ${i + 1}`"
          />
          <span v-if="row.rest.friendlyName" class="soft small friendly">{{ row.rest.friendlyName }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn :label="direction === 'in' ? 'From what came' : 'From the profile'" min-width="320">
        <template #default="{ row, $index: i }">
          <span v-if="readonly" class="mono">{{ words[kindOf(row.rest)] }}{{ row.source }}</span>
          <div v-else class="source">
            <ElSelect v-model="row.kind" :aria-label="`Where rule ${i + 1} takes its values`">
              <ElOption value="from" label="from" />
              <ElOption value="value" label="always" />
              <ElOption value="expr" label="computed" />
              <ElOption value="use" label="rule set" />
            </ElSelect>
            <ElSelect
              v-if="row.kind === 'use'"
              v-model="row.source"
              filterable
              :aria-label="`Rule set of rule ${i + 1}`"
            >
              <ElOption v-for="s in sets" :key="s.slug" :value="s.slug" :label="s.name" />
            </ElSelect>
            <NameInput
              v-else-if="row.kind === 'from'"
              v-model="row.source"
              many
              :names="sources"
              :label="`Sources of rule ${i + 1}`"
              :placeholder="wordsFor.from"
            />
            <ElInput
              v-else
              v-model="row.source"
              type="textarea"
              :autosize="{ minRows: 1, maxRows: 5 }"
              class="mono"
              :aria-label="`Sources of rule ${i + 1}`"
              :placeholder="wordsFor[row.kind as 'expr' | 'value']"
            />
          </div>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Steps" min-width="150">
        <template #default="{ row, $index: i }">
          <StepChips v-if="row.kind !== 'use'" v-model="row.steps" :readonly="readonly" :of="`rule ${i + 1}`" />
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="openid" label="Place" width="124">
        <template #default="{ row, $index: i }">
          <template v-if="readonly">{{ row.place || "as usual" }}</template>
          <ElSelect v-else-if="row.kind !== 'use'" v-model="row.place" :aria-label="`Place of rule ${i + 1}`">
            <ElOption value="" label="as usual" />
            <ElOption value="id_token" label="ID token" />
            <ElOption value="userinfo" label="UserInfo" />
            <ElOption value="both" label="both" />
          </ElSelect>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Must" width="56">
        <template #default="{ row, $index: i }">
          <template v-if="readonly">{{ row.required ? "yes" : "" }}</template>
          <ElCheckbox
            v-else-if="row.kind !== 'use'"
            v-model="row.required"
            :aria-label="`Rule ${i + 1} must have a value`"
          />
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="made" label="Makes" min-width="150" class-name="makes">
        <template #default="{ $index: i }">
          <span v-if="made[i]?.problem" class="bad small" role="alert">{{ made[i]!.problem }}</span>
          <span v-else-if="made[i]?.values.length" class="mono small">{{ few(made[i]!.values) }}</span>
          <span v-else class="soft small">{{ made[i] ? "nothing" : "" }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="!readonly" width="40">
        <template #header><span class="visually-hidden">Acts</span></template>
        <template #default="{ $index: i }">
          <ElButton text size="small" :aria-label="`Take rule ${i + 1} away`" @click="rows.splice(i, 1)">✕</ElButton>
        </template>
      </ElTableColumn>
    </ElTable>
  </div>
</template>

<style scoped>
.source {
  display: flex;
  gap: 4px;
  align-items: flex-start;
}
.source > .el-select:first-child {
  flex: none;
  width: 104px;
}
.friendly {
  display: block;
}
.handle {
  cursor: grab;
  padding: 0 4px;
  min-width: 26px;
}
.bad {
  color: var(--rust);
}
.rules :deep(td.makes) {
  background: var(--well);
  padding-left: 10px;
}
</style>
