<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import { useAct } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
// The token stands behind the #, so that it never reaches a log.
const token = useRoute().hash.slice(1);
const name = ref("");
const password = ref("");
const { error, busy, act } = useAct();

function setUp() {
  void act(async () => {
    await ok(http.POST("/set-up", { body: { token, name: name.value, password: password.value } }));
    await session.signIn(name.value, password.value);
    await router.replace("/");
  });
}
</script>

<template>
  <div class="door">
    <ElForm label-position="top" class="panel" @submit.prevent="setUp">
      <h1>Become the first administrator</h1>
      <p class="sub">You will be an owner: you may do everything, also add others.</p>
      <p v-if="!token" class="error">This page needs the link that the service printed when it started.</p>
      <ElFormItem label="Name">
        <ElInput v-model="name" autocomplete="username" />
      </ElFormItem>
      <ElFormItem label="Password">
        <ElInput v-model="password" type="password" autocomplete="new-password" />
        <small>At least 12 characters. A few words in a row are easy to remember and hard to guess.</small>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!token">Set up</ElButton>
      <p v-if="error" class="error" role="alert">{{ error }}</p>
    </ElForm>
  </div>
</template>

<style scoped>
.door {
  display: grid;
  place-items: center;
  min-height: 70vh;
}
form {
  width: 100%;
  max-width: 440px;
  padding: 28px;
}
.error {
  margin-top: 14px;
}
</style>
