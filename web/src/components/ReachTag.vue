<script setup lang="ts">
import { reachWords } from "../composables/text";

defineProps<{ reach: string }>();
</script>

<template>
  <span class="tag" :class="reachWords[reach]?.state" :title="reachWords[reach]?.means">{{
    reachWords[reach]?.text ?? reach
  }}</span>
</template>
