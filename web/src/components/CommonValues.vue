<script setup lang="ts">
// What is known of every partner, whatever it speaks.
defineProps<{ readonly?: boolean }>();
const partner = defineModel<{ name?: string; description?: string; contact?: string }>({ required: true });
</script>

<template>
  <ElFormItem label="Name">
    <ElInput v-model="partner.name" :disabled="readonly" autocomplete="off" />
  </ElFormItem>
  <ElFormItem label="Description">
    <ElInput
      v-model="partner.description"
      :disabled="readonly"
      type="textarea"
      :rows="2"
      spellcheck="false"
      autocomplete="off"
    />
    <small>So that a colleague understands it in two years.</small>
  </ElFormItem>
  <ElFormItem label="Contact">
    <ElInput v-model="partner.contact" :disabled="readonly" autocomplete="off" />
    <small>Whom to write to on the other side.</small>
  </ElFormItem>
</template>
