<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

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
const off = () =>
  confirm("Send no mail any more? New mail addresses can't be proven then.") &&
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
    <form @submit.prevent="store">
      <TextBox v-model="server" label="Mail server" hint="Host and port, such as mail.saltmere.example:587." mono />
      <SelectBox
        v-model="encryption"
        label="Encryption"
        :options="[
          ['starttls', 'STARTTLS, after a greeting in the clear'],
          ['tls', 'TLS from the first octet'],
          ['none', 'none: only to this machine itself'],
        ]"
      />
      <TextBox v-model="from" label="Sender" hint="An address, with or without a name before it." />
      <TextBox v-model="username" label="User name there" hint="Only where the server wants one." />
      <TextBox
        v-if="username"
        v-model="password"
        label="Password there"
        :hint="data?.hasPassword ? 'One is kept. Enter another to replace it.' : undefined"
        type="password"
        autocomplete="off"
      />
      <p class="row">
        <ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton
        ><ElButton v-if="data?.on" type="danger" :loading="busy" @click="off">Send no mail</ElButton>
      </p>
    </form>
    <form v-if="data?.on" @submit.prevent="test">
      <TextBox v-model="to" label="Send a test to" /><ElButton native-type="submit" :disabled="!to" :loading="testing"
        >Send</ElButton
      >
      <p v-if="sent" role="status">{{ sent }}</p>
      <p v-if="testError" class="error" role="alert">{{ testError }}</p>
    </form>
  </section>
</template>
