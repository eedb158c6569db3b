<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok } from "../api/client";
import { useAct, useLoad } from "../composables/load";

const { data, error: loadError, again } = useLoad(() => ok(http.GET("/mail-settings")));
const server = ref("");
const encryption = ref("starttls");
const from = ref("");
const username = ref("");
const password = ref("");
const to = ref("");
const sent = ref("");
watch(data, (d) => {
  server.value = d?.server ?? "";
  encryption.value = d?.encryption ?? "starttls";
  from.value = d?.from ?? "";
  username.value = d?.username ?? "";
  password.value = "";
});
const { error, busy, act } = useAct();
const { error: testError, busy: testing, act: tryIt } = useAct();
const store = () =>
  act(async () => {
    await ok(
      http.PUT("/mail-settings", {
        body: {
          server: server.value,
          encryption: encryption.value,
          from: from.value,
          username: username.value,
          password: password.value || undefined,
        },
      }),
    );
    await again();
  });
const off = async () =>
  (await sure("Send no mail any more? New mail addresses can't be proven then.", "Send none")) &&
  act(async () => {
    await ok(http.PUT("/mail-settings", { body: { server: "", from: "" } }));
    await again();
  });
const test = () =>
  tryIt(async () => {
    sent.value = "";
    await ok(http.POST("/mail-settings/test", { body: { to: to.value } }));
    sent.value = `The mail server took a mail for ${to.value}. Whether it arrives, its mailbox knows.`;
  });
</script>

<template>
  <section class="panel">
    <h2>Mail</h2>
    <p class="soft">
      {{
        data?.on
          ? "Codes for new mail addresses go out this way."
          : "The gate sends no mail. Without it, people can't prove a new mail address."
      }}
    </p>
    <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
    <ElForm label-position="top" @submit.prevent="store">
      <ElFormItem label="Mail server">
        <ElInput v-model="server" class="mono" spellcheck="false" autocomplete="off" />
        <small>Host and port, such as mail.saltmere.example:587.</small>
      </ElFormItem>
      <ElFormItem label="Encryption">
        <ElSelect v-model="encryption">
          <ElOption
            v-for="[value, text] in [
              ['starttls', 'STARTTLS, after a greeting in the clear'],
              ['tls', 'TLS from the first octet'],
              ['none', 'none: only to this machine itself'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="Sender">
        <ElInput v-model="from" autocomplete="off" />
        <small>An address, with or without a name before it.</small>
      </ElFormItem>
      <ElFormItem label="User name there">
        <ElInput v-model="username" autocomplete="off" />
        <small>Only where the server wants one.</small>
      </ElFormItem>
      <ElFormItem v-if="username" label="Password there">
        <ElInput v-model="password" type="password" autocomplete="off" />
        <small v-if="data?.hasPassword ? 'One is kept. Enter another to replace it.' : undefined">{{
          data?.hasPassword ? "One is kept. Enter another to replace it." : undefined
        }}</small>
      </ElFormItem>
      <p class="row">
        <ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton>
        <ElButton v-if="data?.on" type="danger" :loading="busy" @click="off">Send no mail</ElButton>
      </p>
    </ElForm>
    <ElForm v-if="data?.on" label-position="top" @submit.prevent="test">
      <ElFormItem label="Send a test to">
        <ElInput v-model="to" autocomplete="off" />
      </ElFormItem>
      <ElButton native-type="submit" :disabled="!to" :loading="testing">Send</ElButton>
      <p v-if="sent" role="status">{{ sent }}</p>
      <p v-if="testError" class="error" role="alert">{{ testError }}</p>
    </ElForm>
  </section>
</template>
