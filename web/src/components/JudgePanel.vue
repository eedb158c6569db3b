<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type Judged } from "../api/client";
import { useAct } from "../composables/load";
import TwoValues from "./TwoValues.vue";

const props = defineProps<{ reference: string }>();
const judged = ref<Judged | null>(null);
const { error, busy, act } = useAct();
const judge = () => act(async () => {
  judged.value = await ok(http.POST("/judge", { body: { trace: props.reference } }));
});
</script>

<template>
  <section class="panel"><h2>Would it work now?</h2>
    <p class="soft small">Holds the provider's response against what is set today, at the response's own time. Nothing is used up, and nothing leaves the gate.</p>
    <ElButton :loading="busy" @click="judge">Judge it again</ElButton>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <div v-if="judged" role="status">
      <p v-if="judged.good"><b>It would go well now.</b> All {{ judged.entries.filter((e) => e.check).length }} checks hold; {{ judged.then?.person }}.</p>
      <template v-else-if="judged.explanation"><p><b>It would be refused: {{ judged.explanation.title }}.</b> {{ judged.explanation.cause }}</p>
        <template v-for="(e, i) in judged.explanation.evidence" :key="e.label + i"><TwoValues v-if="e.expected && e.got" :difference="judged.explanation.differences[i]!" /></template>
        <p>{{ judged.explanation.remedy }}</p></template>
    </div>
  </section>
</template>
