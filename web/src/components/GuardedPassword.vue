<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import { useAct } from "../composables/load";

const props = defineProps<{ slug: string }>();
const password = ref("");
const kept = ref(false);
const { error, act } = useAct();
const keep = () =>
  act(async () => {
    await ok(
      http.PUT("/applications/{slug}/guard/password", {
        params: { path: { slug: props.slug } },
        body: { password: password.value },
      }),
    );
    password.value = "";
    kept.value = true;
  });
</script>

<template>
  <ElFormItem label="The application's password">
    <ElInput v-model="password" type="password" autocomplete="new-password" />
    <small> It is stored sealed and never shown again. The user name is what the mapping out sets as username. </small>
  </ElFormItem>
  <ElButton :disabled="!password" @click="keep">Store the password</ElButton>
  <span v-if="kept" class="soft" aria-live="polite"> It is stored.</span>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
</template>
