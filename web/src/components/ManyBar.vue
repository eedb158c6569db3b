<script setup lang="ts">
import { ElButton } from "element-plus";
import type { Failed } from "../composables/chosen";

// What can be done to the rows that are chosen, how far it is, and what of it failed.
defineProps<{ count: number; done: number; of: number; busy: boolean; failed: Failed[] }>();
const emit = defineEmits<{ clear: []; stop: [] }>();
</script>

<template>
  <section class="many" aria-label="Chosen rows">
    <div class="row">
      <b role="status">{{ busy ? `${done} of ${of} done` : `${count} chosen` }}</b>
      <ElProgress v-if="busy" class="grow" :percentage="of ? Math.round((100 * done) / of) : 0" />
      <template v-if="!busy"><slot /></template>
      <ElButton v-if="busy" @click="emit('stop')">Stop</ElButton>
      <ElButton v-else text @click="emit('clear')">Choose none</ElButton>
    </div>
    <ul v-if="failed.length" role="alert">
      <li v-for="f in failed.slice(0, 10)" :key="f.name" class="error">
        <b>{{ f.name }}</b>: {{ f.why }}
      </li>
      <li v-if="failed.length > 10">and {{ failed.length - 10 }} more</li>
    </ul>
  </section>
</template>

<style scoped>
.many {
  border: 1px solid var(--rule);
  border-left: 4px solid var(--brass-line);
  border-radius: 4px;
  background: var(--card);
  padding: 8px 14px;
  margin-bottom: 10px;
}
.row {
  gap: 8px 10px;
}
.grow {
  flex: 1;
}
ul {
  margin: 8px 0 0;
  padding-left: 18px;
}
</style>
