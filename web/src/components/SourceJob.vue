<script setup lang="ts">
import { computed } from "vue";
import type { Source } from "../api/client";

// How far the reading of a source is.
const props = defineProps<{ job: NonNullable<Source["job"]> }>();
const stages: Record<string, string> = {
  fetching: "Fetching",
  verifying: "Checking its signature and form",
  storing: "Storing what changed",
};
const share = computed(() => (props.job.all > 0 ? Math.round((100 * props.job.have) / props.job.all) : undefined));
</script>

<template>
  <div class="panel job" role="status">
    <p>
      {{ stages[job.stage] ?? job.stage }} … {{ Math.round(job.have / 1e6)
      }}<template v-if="job.all > 0"> of {{ Math.round(job.all / 1e6) }}</template> MB<template v-if="job.entities"
        >, {{ job.entities.toLocaleString() }} entities</template
      >
    </p>
    <ElProgress :percentage="share ?? 50" :indeterminate="share === undefined" aria-label="How far it is" />
    <p class="soft small">What was read before stays in force until the whole document was found good.</p>
  </div>
</template>

<style scoped>
.job {
  margin-bottom: 16px;
}
.job p {
  margin: 0 0 6px;
}
</style>
