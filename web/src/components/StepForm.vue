<script setup lang="ts">
import { computed } from "vue";
import { partsOf, shapeOf, stepMenu, stepOf, tableOf, tableText } from "../composables/rulesteps";

// The parameters of one step.
const step = defineModel<unknown>({ required: true });
const parts = computed(() => partsOf(step.value));
const shape = computed(() => shapeOf(step.value));
const means = computed(() => stepMenu.find((s) => s.word === parts.value.word)?.means ?? "");
const text = computed({
  get: () => String(parts.value.arg ?? ""),
  set: (v: string) => (step.value = stepOf(parts.value.word, v)),
});
const number = computed({
  get: () => Number(parts.value.arg) || 1,
  set: (v: number | undefined) => (step.value = stepOf(parts.value.word, v ?? 1)),
});
const pair = computed(() => (Array.isArray(parts.value.arg) ? parts.value.arg.map(String) : ["", ""]));
const half = (i: number, v: string) => {
  const both = [...pair.value];
  both[i] = v;
  step.value = stepOf(parts.value.word, both);
};
const table = computed({
  get: () => tableText(parts.value.arg),
  set: (v: string) => (step.value = stepOf(parts.value.word, tableOf(v))),
});
</script>

<template>
  <ElForm label-position="top" class="step-form" @submit.prevent>
    <p class="soft small">
      <b class="mono">{{ parts.word }}</b>: {{ means }}
    </p>
    <ElFormItem v-if="shape === 'text' || shape === 'pattern'" :label="shape === 'text' ? 'Text' : 'Pattern'">
      <ElInput v-model="text" class="mono" spellcheck="false" autocomplete="off" />
      <small v-if="shape === 'pattern'">A regular expression; ^ and $ bind it to the ends.</small>
    </ElFormItem>
    <ElFormItem v-else-if="shape === 'number'" label="How many">
      <ElInputNumber v-model="number" :min="1" />
    </ElFormItem>
    <template v-else-if="shape === 'pair'">
      <ElFormItem label="Pattern">
        <ElInput :model-value="pair[0]" class="mono" spellcheck="false" autocomplete="off" @input="half(0, $event)" />
      </ElFormItem>
      <ElFormItem label="Becomes">
        <ElInput :model-value="pair[1]" class="mono" spellcheck="false" autocomplete="off" @input="half(1, $event)" />
        <small>$1 is what the first bracket of the pattern found.</small>
      </ElFormItem>
    </template>
    <ElFormItem v-else-if="shape === 'table'" label="Values">
      <ElInput
        :model-value="table"
        type="textarea"
        :rows="5"
        class="mono"
        spellcheck="false"
        autocomplete="off"
        @change="table = $event"
      />
      <small>One a line, as old → new (or old -> new). * is every other value.</small>
    </ElFormItem>
    <p v-else class="soft small">It needs nothing more.</p>
  </ElForm>
</template>

<style scoped>
.step-form p {
  margin: 0 0 8px;
}
.step-form :deep(.el-form-item:last-child) {
  margin-bottom: 0;
}
</style>
