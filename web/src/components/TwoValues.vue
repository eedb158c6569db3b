<script setup lang="ts">
import type { Difference } from "../api/client";

defineProps<{ difference: Difference; first?: string; second?: string }>();
</script>

<template>
  <div class="two mono">
    <small>{{ first ?? "expected" }}</small>
    <div>
      {{ difference.head }}<mark v-if="difference.expected">{{ difference.expected }}</mark
      >{{ difference.tail }}
    </div>
    <small>{{ second ?? "got" }}</small>
    <div>
      {{ difference.head }}<mark v-if="difference.got">{{ difference.got }}</mark
      >{{ difference.tail }}
    </div>
    <p v-if="difference.hint">{{ difference.hint }}</p>
  </div>
</template>

<style scoped>
.two {
  background: var(--well);
  border-radius: 3px;
  padding: 8px 12px;
  margin: 8px 0;
  white-space: pre-wrap;
}
small {
  color: var(--soft);
  font-family: var(--el-font-family);
  font-size: 13px;
}
mark {
  background: var(--mark);
  color: inherit;
}
p {
  margin: 6px 0 0;
  font-family: var(--el-font-family);
}
</style>
