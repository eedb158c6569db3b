<script setup lang="ts">
import { computed } from "vue";
import type { Move, MoveComparison } from "../api/client";
import { results } from "../composables/movewords";
import TimeText from "./TimeText.vue";

// Sign-ins of one person by both providers, side by side.
const props = defineProps<{ move: Move; compared: MoveComparison[] }>();
/** A row for each difference; what is alike has one row of its own. */
const rows = computed(() =>
  props.compared.flatMap((c) => (c.differences.length ? c.differences : [null]).map((d, i) => ({ c, d, i }))),
);
</script>

<template>
  <section class="panel">
    <h2>Both ways, side by side</h2>
    <ElTable table-layout="auto" :data="rows">
      <ElTableColumn label="Person">
        <template #default="{ row: { c, i } }">{{ i ? "" : c.person || "–" }}</template>
      </ElTableColumn>
      <ElTableColumn label="Application">
        <template #default="{ row: { c, i } }">{{ i ? "" : c.application }}</template>
      </ElTableColumn>
      <ElTableColumn label="Result">
        <template #default="{ row: { c, i } }">
          <template v-if="!i"
            ><span class="tag" :class="results[c.result]?.state">{{ results[c.result]?.text ?? c.result }}</span>
            <RouterLink v-if="c.reference" :to="`/traces/${c.reference}`" class="small">trace</RouterLink><br /><span
              class="small soft"
              >{{ c.how }}, <TimeText :at="c.at" from /></span
          ></template>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Claim">
        <template #default="{ row: { c, d } }">
          <span class="mono">{{ d?.name ?? c.code }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn :label="`With ${move.from.name}`">
        <template #default="{ row: { d } }">
          <span class="mono">{{ d ? d.was.join(", ") || "nothing" : "" }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn :label="`With ${move.to.name}`">
        <template #default="{ row: { d } }">
          <span class="mono">{{ d ? d.is.join(", ") || "nothing" : "" }}</span>
        </template>
      </ElTableColumn>
    </ElTable>
  </section>
</template>
