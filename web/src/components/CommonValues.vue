<script setup lang="ts">
// What is known of every partner, whatever it speaks.
import DraftField from "./DraftField.vue";
</script>

<template>
  <DraftField path="name" label="Name" plain />
  <DraftField
    path="description"
    label="Description"
    as="area"
    plain
    hint="So that a colleague understands it in two years."
  />
  <DraftField path="contact" label="Contact" plain hint="Whom to write to on the other side." />
  <DraftField path="tags" label="Tags" as="list" hint="Short words to find it and its like by." />
</template>
