<script setup lang="ts">
import { ElButton } from "element-plus";
import { put, type Offer } from "../composables/offer";

const props = defineProps<{ error: string; offers: Offer[]; draft: object }>();
const name = (field: string) => field.replace(/^(oidc|saml)\./, "");
</script>

<template>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <p v-for="o in error ? props.offers : []" :key="o.field + o.value">
    <ElButton size="small" @click="put(props.draft, o.field, o.value)"
      >Put {{ o.value }} into {{ name(o.field) }}</ElButton
    >
  </p>
</template>
