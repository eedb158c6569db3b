<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useAct, useLoad } from "../composables/load";
import { http, ok } from "../api/client";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const route = useRoute();
const name = ref("");
const password = ref("");
const { error, busy, act } = useAct();
const { data } = useLoad(() => ok(http.GET("/set-up")));
const { data: providers } = useLoad(() => ok(http.GET("/session/providers")));

function signIn() {
  void act(async () => {
    await session.signIn(name.value, password.value);
    const next = typeof route.query.next === "string" && /^\/(?!\/)/.test(route.query.next) ? route.query.next : "/";
    await router.push(next);
  });
}
</script>

<template>
  <div class="door">
    <ElForm label-position="top" class="panel" @submit.prevent="signIn">
      <h1>Inner Gate</h1>
      <p class="sub">Console for administrators</p>
      <p v-if="data?.needed" class="error">
        There is no administrator yet. Open the set-up link that the service printed when it started.
      </p>
      <ElFormItem label="Name">
        <ElInput v-model="name" autocomplete="username" />
      </ElFormItem>
      <ElFormItem label="Password">
        <ElInput v-model="password" type="password" autocomplete="current-password" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Sign in</ElButton>
      <p v-if="error" class="error" role="alert">{{ error }}</p>
    </ElForm>
    <form
      v-for="p in providers?.items ?? []"
      :key="p.slug"
      class="other"
      method="post"
      :action="`/console-sign-in/${p.slug}`"
    >
      <ElButton native-type="submit" size="large">Sign in with {{ p.name }}</ElButton>
    </form>
  </div>
</template>

<style scoped>
.door {
  display: grid;
  place-items: center;
  min-height: 70vh;
}
.door {
  align-content: center;
  gap: 12px;
}
form {
  width: 100%;
  max-width: 400px;
}
.panel {
  padding: 28px;
}
.other .el-button {
  width: 100%;
}
.error {
  margin-top: 14px;
}
</style>
