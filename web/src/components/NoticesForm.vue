<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import TimeText from "./TimeText.vue";

const { data, error: loadError, again } = useLoad(() => ok(http.GET("/notices")));
const webhook = ref("");
const secret = ref("");
const mail = ref("");
const from = ref("attention");
watch(data, (d) => {
  webhook.value = d?.webhook ?? "";
  mail.value = (d?.mail ?? []).join(", ");
  from.value = d?.from || "attention";
  secret.value = "";
});
const { error, busy, act } = useAct();
const store = () =>
  act(async () => {
    await ok(
      http.PUT("/notices", {
        body: {
          webhook: webhook.value.trim() || undefined,
          mail: mail.value
            .split(",")
            .map((m) => m.trim())
            .filter(Boolean),
          from: from.value,
          secret: secret.value || undefined,
        },
      }),
    );
    await again();
  });
</script>

<template>
  <ElForm label-position="top" class="panel notices" @submit.prevent="store">
    <h2>Who is told</h2>
    <p class="soft">Of what is new and not accepted, once.</p>
    <ul v-if="data?.deliveries.length" class="plain">
      <li v-for="d in data.deliveries" :key="d.to">
        <span class="mono">{{ d.to }}</span>
        <template v-if="d.lastSent"> was last told <TimeText :at="d.lastSent" from /></template>
        <template v-else> was told nothing yet</template>.
        <span v-if="d.error" class="error" role="alert">
          {{ d.waiting }} waiting, tried {{ d.tries === 1 ? "once" : `${d.tries} times` }}:
          {{ d.error.replace(/\.$/, "") }}. The next try is <TimeText :at="d.next" from />.
        </span>
      </li>
    </ul>
    <div class="two">
      <ElFormItem label="Mail addresses">
        <ElInput v-model="mail" autocomplete="off" />
        <small>Parted by commas.</small>
      </ElFormItem>
      <ElFormItem label="From which severity on">
        <ElSelect v-model="from">
          <ElOption
            v-for="[value, text] in [
              ['broken', 'broken'],
              ['attention', 'needs attention'],
              ['remark', 'remark'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="Webhook">
        <ElInput v-model="webhook" class="mono" spellcheck="false" autocomplete="off" />
        <small>Takes a POST with the findings as JSON.</small>
      </ElFormItem>
      <ElFormItem label="Its secret">
        <ElInput v-model="secret" type="password" autocomplete="off" />
        <small>{{
          data?.hasSecret
            ? "One is kept. Enter another to replace it."
            : "With one, the header X-Innergate-Signature holds the HMAC-SHA-256 of the body."
        }}</small>
      </ElFormItem>
    </div>
    <ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
  </ElForm>
</template>

<style scoped>
.notices {
  margin-top: 26px;
}
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 20px;
  align-items: end;
}
</style>
