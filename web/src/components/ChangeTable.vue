<script setup lang="ts">
import { shortName } from "../composables/text";

defineProps<{ changes: { field: string; before: string; after: string }[] }>();
</script>

<template>
  <table class="list">
    <thead>
      <tr>
        <th scope="col">Field</th>
        <th scope="col">Held now</th>
        <th scope="col">Theirs</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in changes" :key="c.field + c.before + c.after">
        <td>{{ c.field }}</td>
        <td class="mono">{{ shortName(c.before) || "–" }}</td>
        <td class="mono">{{ shortName(c.after) || "taken away" }}</td>
      </tr>
    </tbody>
  </table>
</template>
