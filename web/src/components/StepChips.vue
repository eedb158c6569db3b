<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, nextTick, ref } from "vue";
import { moved } from "../composables/mapping";
import { newStep, shapeOf, stepMenu } from "../composables/rulesteps";
import { stepText } from "../composables/text";
import StepForm from "./StepForm.vue";

// The steps of one rule, in their order. Each opens with its parameters; Alt and an arrow move it, Delete takes it away.
const props = defineProps<{ readonly?: boolean; of: string }>();
const steps = defineModel<unknown[]>({ required: true });
const open = ref(-1);
const list = ref<HTMLElement | null>(null);
const adding = ref("");

const set = (i: number, step: unknown) => (steps.value = steps.value.map((s, n) => (n === i ? step : s)));
const away = (i: number) => {
  open.value = -1;
  steps.value = steps.value.filter((_, n) => n !== i);
};
function add(word: string) {
  adding.value = "";
  if (!word) return;
  steps.value = [...steps.value, newStep(word)];
  if (shapeOf(newStep(word)) !== "none") open.value = steps.value.length - 1;
}
function move(i: number, to: number) {
  if (to < 0 || to >= steps.value.length) return;
  steps.value = moved(steps.value, i, to);
  void nextTick(() => list.value?.querySelectorAll<HTMLElement>(".chip")[to]?.focus());
}
function key(e: KeyboardEvent, i: number) {
  if (props.readonly) return;
  if (e.altKey && (e.key === "ArrowLeft" || e.key === "ArrowRight")) move(i, i + (e.key === "ArrowLeft" ? -1 : 1));
  else if (e.key === "Delete" || e.key === "Backspace") away(i);
  else if (e.key === "Escape") open.value = -1;
  else return;
  e.preventDefault();
}
const dragged = ref(-1);
const words = computed(() => stepMenu.map((s) => [s.word, `${s.word}: ${s.means}`] as const));
</script>

<template>
  <span ref="list" class="chips">
    <template v-for="(s, i) in steps" :key="i">
      <ElTag v-if="readonly" type="info" class="mono">{{ stepText(s) }}</ElTag>
      <ElPopover v-else :visible="open === i" trigger="click" :width="300" @update:visible="open = $event ? i : -1">
        <template #reference>
          <ElTag
            closable
            class="chip"
            draggable="true"
            @close="away(i)"
            @keydown="key($event, i)"
            @dragstart="dragged = i"
            @dragover.prevent
            @drop.prevent="move(dragged, i)"
            ><ElButton
              link
              size="small"
              class="mono"
              :aria-label="`Step ${i + 1} of ${of}: ${stepText(s)}`"
              :aria-expanded="open === i"
              @click="open = open === i ? -1 : i"
              >{{ stepText(s) }}</ElButton
            ></ElTag
          >
        </template>
        <StepForm v-if="open === i" :model-value="s" @update:model-value="set(i, $event)" @keydown.esc="open = -1" />
      </ElPopover>
    </template>
    <ElSelect
      v-if="!readonly"
      v-model="adding"
      class="add"
      size="small"
      filterable
      default-first-option
      placeholder="+"
      :aria-label="`Add a step to ${of}`"
      :empty-values="['', null, undefined]"
      popper-class="steps-to-add"
      :fit-input-width="false"
      @change="add"
    >
      <ElOption v-for="[word, text] in words" :key="word" :value="word" :label="text" />
    </ElSelect>
  </span>
</template>

<style scoped>
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  align-items: center;
}
.chip {
  cursor: pointer;
  max-width: 16rem;
  overflow: hidden;
  text-overflow: ellipsis;
}
.add {
  width: 62px;
  min-width: 0;
}
</style>
