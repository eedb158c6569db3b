<script setup lang="ts">
// What became of entities of a source that were to be made partners.
defineProps<{ results: { entityId: string; slug?: string; outcome: string; reason?: string; as: string }[] }>();
const outcomes: Record<string, string> = {
  created: "a draft was made",
  there: "is there already",
  refused: "could not be taken",
};
</script>

<template>
  <ul class="results" aria-live="polite">
    <li v-for="r in results" :key="r.entityId">
      <span class="mono">{{ r.entityId }}</span> {{ outcomes[r.outcome] ?? r.outcome
      }}<template v-if="r.slug"
        >:
        <RouterLink :to="r.as === 'application' ? `/applications/${r.slug}/connect` : `/providers/${r.slug}`">{{
          r.slug
        }}</RouterLink></template
      ><span v-if="r.outcome === 'refused'" class="soft"> {{ r.reason }}</span>
    </li>
  </ul>
</template>

<style scoped>
.results {
  padding-left: 18px;
}
</style>
