<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Secret, type TriedAccounts } from "../api/client";
import { useAct } from "../composables/load";
import TimeText from "./TimeText.vue";

/** What the gate proves itself with at an application's SCIM service. */
const props = defineProps<{ slug: string; secrets: Secret[]; readonly: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const path = computed(() => ({ path: { slug: props.slug } }));
const value = ref("");
const tried = ref<TriedAccounts | null>(null);
const next = computed(() => props.secrets.find((s) => s.state === "next"));
const { error, busy, act } = useAct();
const done = (f: () => Promise<unknown>) =>
  act(async () => {
    await f();
    emit("changed");
  });
const enter = () =>
  done(async () => {
    await ok(http.POST("/applications/{slug}/accounts/secrets", { params: path.value, body: { value: value.value } }));
    value.value = "";
  });
const attempt = () =>
  done(async () => {
    tried.value = await ok(
      http.POST("/applications/{slug}/accounts/try", { params: { ...path.value, query: { next: "true" } } }),
    );
  });
const change = () => done(() => ok(http.POST("/applications/{slug}/accounts/secrets/switch", { params: path.value })));
</script>

<template>
  <section class="panel secret">
    <h3>Token, client secret or password</h3>
    <p v-for="s in secrets" :key="s.id">
      <span class="tag" :class="s.state === 'next' ? 'attention' : 'sound'">{{
        s.state === "next" ? "next" : "in use"
      }}</span>
      entered <TimeText :at="s.created" from /> by {{ s.by }}
    </p>
    <p v-if="!secrets.length" class="soft">None is stored, so that nothing can be asked.</p>
    <div v-if="next && !readonly" class="row">
      <ElButton size="small" :loading="busy" @click="attempt">Try the next one</ElButton>
      <ElButton size="small" type="primary" :loading="busy" @click="change">Switch to it</ElButton>
    </div>
    <p v-if="tried" aria-live="polite">{{ tried.text }} {{ tried.remedy }}</p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <ElForm v-if="!readonly" label-position="top" class="row" @submit.prevent="enter">
      <ElFormItem :label="secrets.length ? 'The next one' : 'As the application shows it'">
        <ElInput v-model="value" type="password" autocomplete="off" show-password />
      </ElFormItem>
      <ElButton native-type="submit" :loading="busy" :disabled="!value">Enter it</ElButton>
    </ElForm>
  </section>
</template>

<style scoped>
.secret {
  margin: 18px 0;
}
</style>
