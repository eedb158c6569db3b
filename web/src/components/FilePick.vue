<script setup lang="ts">
import { nextTick } from "vue";
import type { UploadFile } from "element-plus";

/** Files to choose or to drop. Nothing is sent by this: whoever uses it gets the files. */
defineProps<{ label: string; accept?: string; many?: boolean; small?: boolean; hint?: string }>();
const emit = defineEmits<{ files: [File[]] }>();

// The library tells of each file by itself; what was dropped together is handed on together.
let taken: File[] = [];
async function take(file: UploadFile) {
  if (!file.raw) return;
  taken.push(file.raw);
  if (taken.length > 1) return;
  await nextTick();
  emit("files", taken);
  taken = [];
}
</script>

<template>
  <div class="file-pick" :data-upload="label">
    <ElUpload
      :auto-upload="false"
      :show-file-list="false"
      :accept="accept"
      :multiple="many"
      :drag="!small"
      action=""
      @change="take"
    >
      <span v-if="small" class="el-button">{{ label }}</span>
      <template v-else>
        <b>{{ label }}</b>
        <small v-if="hint">{{ hint }}</small>
      </template>
    </ElUpload>
  </div>
</template>

<style scoped>
.file-pick {
  margin-bottom: 14px;
}
small {
  display: block;
  color: var(--soft);
}
.file-pick :deep(.el-upload-dragger) {
  padding: 14px 18px;
  line-height: 1.5;
}
</style>
