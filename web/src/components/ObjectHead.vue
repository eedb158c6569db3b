<script setup lang="ts">
import { computed } from "vue";
import type { Finding } from "../api/client";
import ReachTag from "./ReachTag.vue";

/** The head of an application or a provider: its state, what to do next, and what is done rarely in one menu. */
const props = defineProps<{
  name: string;
  kind: "application" | "provider";
  slug: string;
  reach: string;
  findings: Finding[];
  engineer?: boolean;
}>();
const emit = defineEmits<{ station: [name: string]; remove: [] }>();
const worst = computed(
  () =>
    props.findings.find((f) => f.severity === "broken") ??
    props.findings.find((f) => f.severity === "attention") ??
    props.findings[0],
);
</script>

<template>
  <div class="head">
    <div>
      <h1>{{ name }}</h1>
      <p class="sub"><slot name="about" /></p>
    </div>
    <div class="row">
      <ReachTag :reach="reach" />
      <ElButton
        v-if="worst"
        size="small"
        class="found"
        :class="worst.severity"
        data-findings
        @click="emit('station', worst.station)"
      >
        {{ findings.length }} finding{{ findings.length === 1 ? "" : "s" }}
      </ElButton>
      <slot />
      <ElDropdown v-if="engineer" trigger="click">
        <ElButton :aria-label="`More for ${name}`">More</ElButton>
        <template #dropdown>
          <ElDropdownMenu>
            <ElDropdownItem @click="$router.push({ path: '/history', query: { kind, slug } })">History</ElDropdownItem>
            <ElDropdownItem divided class="danger" @click="emit('remove')">Delete this {{ kind }}</ElDropdownItem>
          </ElDropdownMenu>
        </template>
      </ElDropdown>
    </div>
  </div>
</template>

<style scoped>
.found.broken {
  --el-button-text-color: var(--rust);
  --el-button-border-color: var(--rust-line);
}
.found.attention {
  --el-button-text-color: var(--brass);
  --el-button-border-color: var(--brass-line);
}
.danger {
  color: var(--rust);
}
</style>
