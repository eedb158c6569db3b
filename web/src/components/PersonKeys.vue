<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type Person } from "../api/client";
import { useAct } from "../composables/load";
import { sure } from "../composables/sure";
import CopyValue from "./CopyValue.vue";
import TimeText from "./TimeText.vue";

// With what a person signs in at the gate itself.
const props = defineProps<{ person: Person }>();
const emit = defineEmits<{ changed: [person: Person] }>();
const { error, busy, act } = useAct();
const params = () => ({ path: { id: props.person.id } });
const kindWords: Record<string, string> = {
  password: "password",
  totp: "second factor",
  recovery: "set of recovery codes",
  passkey: "passkey",
};
const link = ref("");
const makeLink = () =>
  act(async () => {
    link.value = (await ok(http.POST("/people/{id}/password-link", { params: params() }))).link;
  });
const drop = async (credential: string, kind: string) =>
  (await sure(`Take this ${kindWords[kind]} away? All that is open of the person ends.`, "Take it away")) &&
  act(async () => {
    const path = { id: props.person.id, credential };
    await ok(http.DELETE("/people/{id}/credentials/{credential}", { params: { path } }));
    emit("changed", await ok(http.GET("/people/{id}", { params: params() })));
  });
</script>

<template>
  <section class="panel">
    <h2>Signs in here</h2>
    <div v-for="c in person.credentials" :key="c.id" class="item">
      <b>{{
        {
          password: "Password",
          totp: "Authenticator",
          recovery: `${c.left} recovery codes`,
          passkey: `Passkey, ${c.name}`,
        }[c.kind] ?? c.kind
      }}</b><br /><span class="soft small"
        >since <TimeText :at="c.created" from />, used <TimeText :at="c.lastUsed" from /></span
      ><br />
      <ElButton size="small" type="danger" @click="drop(c.id, c.kind)">Take away</ElButton>
    </div>
    <p v-if="!person.credentials.length" class="soft">There is no password yet.</p>
    <p>
      <ElButton size="small" :loading="busy" @click="makeLink">Make a link to set a password</ElButton>
    </p>
    <template v-if="link"
      ><p><b>Send it now; it is shown once, works once, and is good for two days.</b></p>
      <CopyValue :value="link" label="the link" />
    </template>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
.item {
  border-bottom: 1px solid var(--hair);
  padding: 8px 0;
}
</style>
