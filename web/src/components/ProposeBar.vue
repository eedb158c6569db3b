<script setup lang="ts">
import type { useProposing } from "../composables/changes";

const props = defineProps<{
  proposals: ReturnType<typeof useProposing>;
  kind: "application" | "provider";
  slug: string;
}>();
const { wanted, proposed, serves, must } = props.proposals;
</script>

<template>
  <div class="row bar small">
    <ElCheckbox v-if="serves" :model-value="must || wanted" :disabled="must" @change="wanted = !!$event"
      >Propose changes instead of making them{{ must ? " (a second person is wanted here)" : "" }}</ElCheckbox
    >
    <RouterLink :to="{ path: '/history', query: { kind, slug } }">History</RouterLink>
    <span v-if="proposed" role="status"
      >Proposed; nothing acts on it yet.
      <RouterLink :to="`/proposals/${proposed.id}`">Rehearse it, have it approved, apply it</RouterLink></span
    >
  </div>
</template>

<style scoped>
.bar {
  justify-content: flex-end;
  margin: 6px 0 10px;
  gap: 18px;
  color: var(--soft);
}
</style>
