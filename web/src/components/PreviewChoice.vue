<script setup lang="ts">
import { computed } from "vue";
import type { PreviewBy, usePreview } from "../composables/preview";
import PersonPick from "./PersonPick.vue";

// Which sample the rules are shown with.
const props = defineProps<{ preview: ReturnType<typeof usePreview>; direction: "in" | "out" }>();
const { by, trace, sample, person, error } = props.preview;
const ways = computed<[PreviewBy, string][]>(() => [
  ["none", "nothing"],
  ["trace", "a real sign-in, by its trace"],
  ["person", "a person known here"],
  ...(props.direction === "out" ? ([["profile", "a profile that I type"]] as [PreviewBy, string][]) : []),
  ["sample", "what a provider sends, pasted or typed"],
]);
</script>

<template>
  <div class="choice">
    <ElForm class="row" inline @submit.prevent>
      <ElFormItem label="Preview with">
        <ElSelect v-model="by" class="by">
          <ElOption v-for="[value, text] in ways" :key="value" :value="value" :label="text" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem v-if="by === 'trace'" label="Trace number">
        <ElInput v-model="trace" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <PersonPick v-else-if="by === 'person'" v-model="person" label="Person" />
    </ElForm>
    <ElFormItem
      v-if="by === 'profile' || by === 'sample'"
      :label="by === 'profile' ? 'The profile' : 'What comes'"
      label-position="top"
    >
      <ElInput v-model="sample" type="textarea" :rows="3" class="mono" spellcheck="false" autocomplete="off" />
      <small>{{
        by === "profile"
          ? "Lines such as email = mira.voss@saltmere.example."
          : "An assertion, a token, claims as JSON, or lines such as mail = mira.voss@saltmere.example."
      }}</small>
    </ElFormItem>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </div>
</template>

<style scoped>
.by {
  width: 19rem;
}
.choice {
  margin: 6px 0 10px;
}
.row {
  gap: 4px 16px;
}
.row :deep(.el-form-item) {
  margin: 0;
  gap: 8px;
  align-items: center;
}
</style>
