<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type Judged } from "../api/client";
import { useAct } from "../composables/load";
import JudgedResult from "./JudgedResult.vue";

const props = defineProps<{ reference: string }>();
const judged = ref<Judged | null>(null);
const { error, busy, act } = useAct();
const judge = () =>
  act(async () => {
    judged.value = await ok(http.POST("/judge", { body: { trace: props.reference } }));
  });
</script>

<template>
  <section class="panel">
    <h2>Would it work now?</h2>
    <p class="soft small">
      Holds the provider's response against what is set today, at the response's own time. Nothing is used up, and
      nothing leaves the gate.
    </p>
    <ElButton :loading="busy" @click="judge">Judge it again</ElButton>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <JudgedResult v-if="judged" :judged="judged" />
  </section>
</template>
