<script setup lang="ts">
import { ElAlert, ElButton, ElProgress } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type ApplicationConfig, type TriedAccounts } from "../api/client";
import { stateWords } from "../composables/accounts";
import { useEditing } from "../composables/edits";
import { useAct, useLoad, useTicker } from "../composables/load";
import { sure } from "../composables/sure";
import AccountHistory from "./AccountHistory.vue";
import AccountSecrets from "./AccountSecrets.vue";
import AccountSettings from "./AccountSettings.vue";
import AccountTable from "./AccountTable.vue";
import TimeText from "./TimeText.vue";

/** The station accounts: whose accounts at the application are kept, how they stand, and what has to be decided. */
const props = defineProps<{ slug: string; name: string; kept: boolean; readonly: boolean; sample?: string }>();
const emit = defineEmits<{ changed: [] }>();
const { draft } = useEditing<ApplicationConfig>();
const route = useRoute();
const router = useRouter();
const path = computed(() => ({ path: { slug: props.slug } }));
const {
  data,
  error: loadError,
  again,
} = useLoad(
  async () => (props.kept ? ok(http.GET("/applications/{slug}/accounts", { params: path.value })) : null),
  [() => props.slug, () => props.kept],
);
const turn = ref(0);
const working = computed(() => data.value?.comparison?.state === "working");
const moving = computed(() => working.value || data.value?.open || !!data.value?.counts.due);
useTicker(1500, () => moving.value && refresh());
async function refresh() {
  await again();
  turn.value++;
  if (!moving.value) emit("changed");
}
const { error, busy, act } = useAct();
const done = (f: () => Promise<unknown>) =>
  act(async () => {
    await f();
    await refresh();
  });
const tried = ref<TriedAccounts | null>(null);
const attempt = () =>
  done(async () => {
    tried.value = await ok(http.POST("/applications/{slug}/accounts/try", { params: path.value }));
  });
const compare = () => done(() => ok(http.POST("/applications/{slug}/accounts/compare", { params: path.value })));
const agree = async () => {
  const count = data.value!.asking!;
  return (
    (await sure(`Take ${count} accounts at ${props.name} away?`, "Take them away")) &&
    done(() => ok(http.POST("/applications/{slug}/accounts/agree", { params: path.value, body: { count } })))
  );
};
const approveAll = async () =>
  (await sure("Approve all that wait? Each is made or taken over at the application.", "Approve all")) &&
  done(() => ok(http.POST("/applications/{slug}/accounts/act", { params: path.value, body: { do: "approve" } })));
const begin = () => (draft.value.accounts = { address: "https://" });

const account = computed(() => String(route.query.account ?? ""));
const open = (id: string) => void router.replace({ query: { ...route.query, account: id || undefined } });
const state = ref("");
const states = computed(() => Object.keys(stateWords).filter((s) => s === "step" || data.value?.counts[s]));
const found = computed(() => {
  const c = data.value?.comparison;
  return c
    ? [
        [c.there, "there"],
        [c.same, "as they should be"],
        [c.create, "would be made"],
        [c.change, "would be changed"],
        [c.remove, "would be taken away"],
        [c.foreign, "of nobody known here"],
        [c.drifted, "changed there"],
      ]
    : [];
});
</script>

<template>
  <h2>Accounts: who has one at {{ name }}</h2>
  <AccountHistory v-if="account" :id="account" :slug="slug" :readonly="readonly" @close="open('')" @changed="refresh" />
  <template v-else-if="!draft.accounts">
    <p class="soft">
      Where {{ name }} has a SCIM 2.0 service, its accounts and groups follow the assignments here: made before the
      first sign-in, changed with the profile, gone when somebody may no longer use it.
    </p>
    <ElButton v-if="!readonly" type="primary" @click="begin">Keep its accounts in step</ElButton>
  </template>
  <template v-else>
    <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
    <template v-if="data">
      <ElAlert
        v-if="data.asking"
        type="error"
        :closable="false"
        show-icon
        :title="`${data.asking} accounts would go at once`"
      >
        <p>
          That is more than may be at once, so nothing was taken away: {{ data.names?.join(", ")
          }}<template v-if="(data.names?.length ?? 0) < data.asking">, and more</template>.
        </p>
        <ElButton v-if="!readonly" type="danger" size="small" :loading="busy" @click="agree">It is meant</ElButton>
      </ElAlert>
      <ElAlert v-else-if="data.code" type="warning" :closable="false" show-icon :title="data.reason">
        <p>
          {{ data.remedy }}
          <template v-if="data.pausedUntil">Tried again <TimeText :at="data.pausedUntil" from />.</template>
          <span class="soft mono">{{ data.code }}</span>
        </p>
      </ElAlert>
      <div class="row">
        <span class="tag" :class="data.on ? 'sound' : 'attention'">{{ data.on ? "sending" : "not sending" }}</span>
        <span class="soft">
          <template v-if="data.comparedAt">Compared <TimeText :at="data.comparedAt" from /></template>
          <template v-else>Never compared</template>
        </span>
        <template v-if="!readonly">
          <ElButton :type="data.comparedAt ? undefined : 'primary'" :loading="busy" :disabled="working" @click="compare"
            >Compare now</ElButton
          >
          <ElButton :loading="busy" @click="attempt">Try it</ElButton>
          <ElButton v-if="data.counts.approval" :loading="busy" @click="approveAll"
            >Approve all {{ data.counts.approval }}</ElButton
          >
        </template>
      </div>
      <p v-if="tried" aria-live="polite">
        <b>{{ tried.ok ? "It works." : "It does not work." }}</b> {{ tried.text }} {{ tried.remedy }}
        <span class="soft">{{ tried.remarks.join(" ") }}</span>
      </p>
      <ElProgress
        v-if="working"
        aria-label="Accounts are being compared"
        :percentage="100"
        indeterminate
        :show-text="false"
        :stroke-width="4"
      />
      <p v-if="data.comparison?.note" class="error">{{ data.comparison.note }}</p>
      <details v-if="data.comparison" :open="!data.on">
        <summary>What the last comparison found</summary>
        <dl class="counts">
          <template v-for="[n, what] in found" :key="what">
            <dt>{{ n }}</dt>
            <dd>{{ what }}</dd>
          </template>
        </dl>
      </details>
      <ElRadioGroup v-model="state" size="small" class="states" aria-label="Accounts that are shown">
        <ElRadioButton value="">All</ElRadioButton>
        <ElRadioButton v-for="s in states" :key="s" :value="s">{{ stateWords[s] }} {{ data.counts[s] }}</ElRadioButton>
      </ElRadioGroup>
      <AccountTable :slug="slug" :state="state" :turn="turn" :readonly="readonly" @open="open" @changed="refresh" />
      <AccountSecrets :slug="slug" :secrets="data.secrets" :readonly="readonly" @changed="refresh" />
    </template>
    <AccountSettings :slug="slug" :readonly="readonly" :settable="data?.settable ?? []" :sample="sample" />
  </template>
</template>

<style scoped>
.counts {
  display: grid;
  grid-template-columns: repeat(4, auto 1fr);
  gap: 4px 12px;
  margin: 10px 0;
}
.counts dt {
  font-weight: 600;
  text-align: right;
}
.counts dd {
  margin: 0;
}
.states {
  display: flex;
  margin: 14px 0 0;
}
.el-alert {
  margin-bottom: 12px;
}
.el-alert p {
  margin: 4px 0 8px;
}
@media (max-width: 700px) {
  .counts {
    grid-template-columns: auto 1fr;
  }
}
</style>
