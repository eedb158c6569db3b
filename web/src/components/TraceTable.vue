<script setup lang="ts">
import type { TraceSummary } from "../api/client";
import { duration, flowWords, outcomeWords } from "../composables/text";
import TimeText from "./TimeText.vue";

defineProps<{ traces: TraceSummary[]; empty: string }>();
</script>

<template>
  <table v-if="traces.length" class="list">
    <thead>
      <tr>
        <th scope="col">Reference</th>
        <th scope="col">Outcome</th>
        <th scope="col">Application</th>
        <th scope="col">Provider</th>
        <th scope="col">Person</th>
        <th scope="col">Begun</th>
        <th scope="col">Took</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="t in traces" :key="t.reference">
        <td>
          <RouterLink :to="`/traces/${t.reference}`" class="mono">{{ t.reference }}</RouterLink
          ><br /><span class="soft small">{{ flowWords[t.flow] }}{{ t.rehearsal ? ", rehearsal" : "" }}</span>
        </td>
        <td>
          <span class="tag" :class="outcomeWords[t.outcome]?.state">{{ outcomeWords[t.outcome]?.text }}</span
          ><template v-if="t.title"
            ><br /><span class="small">{{ t.title }}</span></template
          >
        </td>
        <td>{{ t.application || "–" }}</td>
        <td>{{ t.provider || "–" }}</td>
        <td>{{ t.person || "–" }}</td>
        <td><TimeText :at="t.started" from /></td>
        <td>{{ duration(t.micros) }}</td>
      </tr>
    </tbody>
  </table>
  <p v-else class="soft">{{ empty }}</p>
</template>
