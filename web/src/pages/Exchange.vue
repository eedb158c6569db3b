<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRoute } from "vue-router";
import { http, ok } from "../api/client";
import GiveOurs from "../components/GiveOurs.vue";
import { useLoad } from "../composables/load";

const route = useRoute();
const slug = String(route.params.slug);
const params = { path: { slug } };
const { data: sheet, error } = useLoad(() => (route.meta.kind === "applications" ? ok(http.GET("/applications/{slug}/exchange", { params })) : ok(http.GET("/providers/{slug}/exchange", { params }))));
const done = ref(false);
async function copy() {
  await navigator.clipboard.writeText(sheet.value!.markdown);
  done.value = true;
  setTimeout(() => (done.value = false), 1500);
}
const print = () => window.print();
</script>

<template>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="sheet">
    <div class="head">
      <div><h1>{{ sheet.title }}</h1><p class="no-print"><RouterLink :to="`/${route.meta.kind}/${slug}`">Back to its page</RouterLink></p></div>
      <div class="row no-print"><ElButton @click="copy">{{ done ? "Copied" : "Copy for a mail" }}</ElButton><ElButton @click="print">Print</ElButton><a class="el-button" :href="sheet.metadata" download>Metadata file</a><a class="el-button" :href="`${sheet.metadata}?signed=1`" download>signed</a></div>
    </div>
    <section class="panel"><GiveOurs :sheet="sheet" /></section>
  </template>
</template>

<style scoped>
a.el-button { text-decoration: none; }
</style>
