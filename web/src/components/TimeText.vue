<script setup lang="ts">
import { computed } from "vue";
import { relative } from "../composables/text";

const props = defineProps<{ at?: string; from?: boolean }>();
const date = computed(() => (props.at ? new Date(props.at) : null));
const local = computed(() => date.value?.toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" }));
</script>

<template>
  <time
    v-if="date"
    :datetime="at"
    :title="
      date
        .toISOString()
        .replace('T', ' ')
        .replace(/\.\d+Z/, ' UTC')
    "
    >{{ from ? relative(date) : local }}</time
  >
  <span v-else class="soft">never</span>
</template>
