<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type Person } from "../api/client";
import { useAct } from "../composables/load";
import { sure } from "../composables/sure";
import TimeText from "./TimeText.vue";

// The providers by which a person is known.
const props = defineProps<{ person: Person }>();
const emit = defineEmits<{ changed: [person: Person] }>();
const { error, busy, act } = useAct();
const params = () => ({ path: { id: props.person.id } });
const unlink = async (link: string, provider: string) =>
  (await sure(
    `Take the link to ${provider} away? The subject is then a stranger again, and groups that the provider gave go.`,
    "Take it away",
  )) &&
  act(async () => {
    await ok(http.DELETE("/people/{id}/links/{link}", { params: { path: { id: props.person.id, link } } }));
    emit("changed", await ok(http.GET("/people/{id}", { params: params() })));
  });
const reference = ref("");
const linkUp = () =>
  act(async () => {
    const body = { reference: reference.value };
    emit("changed", await ok(http.POST("/people/{id}/links", { params: params(), body })));
    reference.value = "";
  });
</script>

<template>
  <section class="panel">
    <h2>Links</h2>
    <div v-for="l in person.links" :key="l.id" class="item">
      <RouterLink v-if="l.slug" :to="`/providers/${l.slug}`"
        ><b>{{ l.provider }}</b></RouterLink
      ><b v-else>{{ l.provider }}</b
      ><br /><span class="mono">{{ l.subject }}</span
      ><br /><span class="soft small"
        >first <TimeText :at="l.firstUsed" from />, last <TimeText :at="l.lastUsed" from /></span
      ><br />
      <ElButton size="small" type="danger" @click="unlink(l.id, l.provider)">Take away</ElButton>
    </div>
    <p v-if="!person.links.length" class="soft">Linked to no provider yet.</p>
    <ElForm label-position="top" class="item" @submit.prevent="linkUp">
      <ElFormItem label="Link a sign-in that found nobody">
        <ElInput v-model="reference" class="mono" spellcheck="false" autocomplete="off" />
        <small>Its reference number. Make sure that it was this person.</small>
      </ElFormItem>
      <ElButton size="small" native-type="submit" :disabled="!reference.trim()" :loading="busy">Link</ElButton>
    </ElForm>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
.item {
  border-bottom: 1px solid var(--hair);
  padding: 8px 0;
}
</style>
