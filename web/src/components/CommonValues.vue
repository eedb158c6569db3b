<script setup lang="ts">
import TextBox from "./TextBox.vue";

// What is known of every partner, whatever it speaks.
defineProps<{ readonly?: boolean }>();
const partner = defineModel<{ name?: string; description?: string; contact?: string }>({ required: true });
</script>

<template>
  <TextBox v-model="partner.name" label="Name" :disabled="readonly" />
  <TextBox
    v-model="partner.description"
    label="Description"
    hint="So that a colleague understands it in two years."
    :rows="2"
    :disabled="readonly"
  />
  <TextBox v-model="partner.contact" label="Contact" hint="Whom to write to on the other side." :disabled="readonly" />
</template>
