<script setup lang="ts">
import { ElAlert } from "element-plus";

/** Says of which nodes nothing is known where traces of all of them are shown. */
defineProps<{ nodes?: string[] }>();
</script>

<template>
  <ElAlert
    v-if="nodes?.length"
    type="warning"
    :closable="false"
    show-icon
    title="What some nodes keep is missing here"
    :description="`They did not answer: ${nodes.join(', ')}.`"
  />
</template>
