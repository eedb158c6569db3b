<script setup lang="ts">
import FilePick from "../components/FilePick.vue";
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type Judged } from "../api/client";
import JudgedResult from "../components/JudgedResult.vue";
import TraceNav from "../components/TraceNav.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useAct } from "../composables/load";
import { useSession } from "../composables/session";

const limit = 2 << 20;
const session = useSession();
const message = ref("");
const provider = ref("");
const application = ref("");
const at = ref("");
const judged = ref<Judged | null>(null);
const { error, busy, act } = useAct();

async function file([chosen]: File[]) {
  if (!chosen) return;
  error.value = "";
  if (chosen.size > limit) {
    error.value = `${chosen.name} is larger than 2 MiB. The command line reads archives of any size: innergate judge ${chosen.name}`;
    return;
  }
  message.value = await chosen.text();
}
const judge = () =>
  act(async () => {
    judged.value = null;
    judged.value = await ok(
      http.POST("/judge", {
        body: {
          message: message.value,
          provider: provider.value || undefined,
          application: application.value || undefined,
          at: at.value ? new Date(at.value).toISOString() : undefined,
        },
      }),
    );
  });
</script>

<template>
  <h1>Judge a message</h1>
  <p class="sub">
    Paste what somebody sent you, or what you copied from a browser: it is held against what is set here, without a
    sign-in. Nothing is used up, and nothing leaves the gate.
  </p>
  <TraceNav />
  <div class="cols">
    <ElForm label-position="top" class="panel" @submit.prevent="judge">
      <ElFormItem label="Message">
        <ElInput v-model="message" type="textarea" :rows="12" class="mono" spellcheck="false" autocomplete="off" />
        <small
          >A SAML response or request (XML, base64, an address or form), an ID token, the address of a sign-in request
          or its answer, or a browser's archive (HAR).</small
        >
      </ElFormItem>
      <FilePick label="File with a message" small @files="file" />
      <div class="grid">
        <ElFormItem label="Provider">
          <ObjectPick v-model="provider" of="providers" none="–" />
        </ElFormItem>
        <ElFormItem label="Application">
          <ObjectPick v-model="application" of="applications" none="–" />
        </ElFormItem>
      </div>
      <ElFormItem label="At this time">
        <ElDatePicker v-model="at" type="datetime" format="YYYY-MM-DD HH:mm" value-format="YYYY-MM-DDTHH:mm" />
        <small>Empty for now.</small>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!message.trim() || !session.engineer"
        >Judge it</ElButton
      >
      <p v-if="error" class="error" role="alert">{{ error }}</p>
    </ElForm>
    <section class="panel">
      <h2>What would come of it</h2>
      <JudgedResult v-if="judged" :judged="judged" />
      <p v-else class="soft">
        Every check is told here, with what was expected and what came; where all hold, whom it would be matched to and
        what the application would get.
      </p>
    </section>
  </div>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 16px;
}
</style>
