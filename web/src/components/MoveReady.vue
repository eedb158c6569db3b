<script setup lang="ts">
import type { Move, MoveApplication } from "../api/client";
import { verdicts } from "../composables/movewords";

// Whether an application is ready to move, and what it needs that the new provider has to say.
defineProps<{ move: Move; a: MoveApplication }>();
</script>

<template>
  <span class="small">
    <span class="tag" :class="verdicts[a.verdict.state]?.state">{{ verdicts[a.verdict.state]?.text }}</span>
    <details v-if="a.verdict.why.length || a.needs.length">
      <summary>{{ a.verdict.why[0] ?? "what it needs" }}</summary>
      <ul v-if="a.verdict.why.length > 1">
        <li v-for="y in a.verdict.why.slice(1)" :key="y">{{ y }}</li>
      </ul>
      <p>
        {{ a.people.all }} people used it through {{ move.from.name }}: {{ a.people.linked }} are known to
        {{ move.to.name }}, {{ a.people.found }} would be found, {{ a.people.strangers }} would be strangers<template
          v-if="a.people.doubtful"
          >, {{ a.people.doubtful }} share a value</template
        >.
      </p>
      <ElTable v-if="a.needs.length" table-layout="auto" :data="a.needs" row-key="attribute">
        <ElTableColumn label="Needs">
          <template #default="{ row: n }">
            <span class="mono"
              >{{ n.attribute }}{{ n.required ? " *" : "" }}<br /><span class="soft"
                >for {{ n.as.join(", ") }}</span
              ></span
            >
          </template>
        </ElTableColumn>
        <ElTableColumn :label="move.from.name">
          <template #default="{ row: n }">
            <span class="mono">{{ n.from || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn :label="move.to.name">
          <template #default="{ row: n }">
            <span class="mono">{{ n.to || "–" }}</span>
          </template>
        </ElTableColumn>
      </ElTable>
    </details>
  </span>
</template>

<style scoped>
details {
  margin-top: 4px;
  max-width: 34rem;
}
.tag {
  margin: 0 4px 2px 0;
}
</style>
