<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import { useAct } from "../composables/load";
import { useSession } from "../composables/session";

const props = defineProps<{ about: { reference?: string; kind?: string; slug?: string } }>();
const session = useSession();
const personal = ref(false);
const contents = ref<{ name: string; what: string; redacted: string }[] | null>(null);
const { error, busy, act } = useAct();
const question = () => ({ ...props.about, personal: personal.value });
const look = () =>
  act(async () => {
    contents.value = (await ok(http.POST("/bundles", { body: question() }))).contents;
  });
const take = () =>
  act(async () => {
    const file = await ok(http.POST("/bundles/file", { body: question(), parseAs: "blob" }));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(file as unknown as Blob);
    link.download = `innergate-${props.about.reference ?? props.about.slug}.html`;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  });
</script>

<template>
  <section class="panel">
    <h2>For support</h2>
    <p class="soft small">One file about this that is read without the gate. Secrets are never in it.</p>
    <ElCheckbox v-if="session.engineer" v-model="personal" @update:model-value="contents && look()"
      >With names, identifiers and messages</ElCheckbox
    >
    <p class="row">
      <ElButton v-if="!contents" :loading="busy" @click="look">What would be in it?</ElButton>
      <ElButton v-else type="primary" :loading="busy" @click="take">Save the file</ElButton>
    </p>
    <ul v-if="contents">
      <li v-for="c in contents" :key="c.name">
        {{ c.what }}.<br /><span class="soft small">Taken out: {{ c.redacted }}.</span>
      </li>
    </ul>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
ul {
  padding-left: 20px;
  margin: 8px 0 0;
}
</style>
