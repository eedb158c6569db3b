<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import FindingCard from "../components/FindingCard.vue";
import HostTable from "../components/HostTable.vue";
import NoticesForm from "../components/NoticesForm.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const route = useRoute();
const router = useRouter();
const asked = (name: string, usual: string) =>
  computed({
    get: () => String(route.query[name] ?? usual),
    set: (v) => void router.replace({ query: { ...route.query, [name]: v === usual ? undefined : v } }),
  });
const shown = asked("shown", "open");
const code = asked("code", "");
const { data, error: loadError, again } = useLoad(() => ok(http.GET("/findings")));
const hosts = ref<{ again: () => Promise<void> } | null>(null);
const list = computed(() =>
  (data.value?.items ?? [])
    .filter((f) => (shown.value === "accepted" ? f.accepted : !f.accepted))
    .filter((f) => !code.value || f.code === code.value),
);
const few = 40; // cards at once; behind them is a button
const most = ref(few);
const codes = computed(() => [...new Set((data.value?.items ?? []).map((f) => f.code))].sort());
const count = (severity: string) =>
  (data.value?.items ?? []).filter((f) => f.severity === severity && !f.accepted).length;
const capped = computed(() => (data.value?.items.length ?? 0) >= 2000); // the service tells no more at once
const { error, busy, act } = useAct();
const ran = ref("");
const run = () =>
  act(async () => {
    const r = await ok(http.POST("/checkup"));
    ran.value = `${r.objects} objects were inspected in ${r.millis} ms.`;
    await Promise.all([again(), hosts.value?.again()]);
  });
</script>

<template>
  <div class="head">
    <div>
      <h1>Checkup</h1>
      <p class="sub">What the gate finds by itself: about the configuration, and about partners' hosts.</p>
    </div>
    <ElButton type="primary" :loading="busy" @click="run">Inspect everything now</ElButton>
  </div>
  <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
  <p v-if="ran" role="status">{{ ran }}</p>
  <div class="row counts">
    <p>
      <b>{{ count("broken") }}</b> broken
    </p>
    <p>
      <b>{{ count("attention") }}{{ capped ? "+" : "" }}</b> to attend to
    </p>
    <p>
      <b>{{ count("remark") }}</b> remarks
    </p>
    <ElFormItem label="Code">
      <ElSelect v-model="code" filterable :empty-values="[null, undefined]">
        <ElOption value="" label="all" />
        <ElOption v-for="c in codes" :key="c" :value="c" :label="c" />
      </ElSelect>
    </ElFormItem>
    <ElFormItem label="Shown">
      <ElSelect v-model="shown">
        <ElOption
          v-for="[value, text] in [
            ['open', 'open findings'],
            ['accepted', 'accepted findings'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
  </div>
  <p v-if="data && !list.length" class="soft">
    {{
      shown === "accepted"
        ? "No finding is accepted."
        : "Nothing needs attention. The gate inspects what changes within seconds, and everything every hour."
    }}
  </p>
  <FindingCard v-for="f in list.slice(0, most)" :key="f.id" :f="f" :engineer="session.engineer" @settled="again()" />
  <ElButton v-if="list.length > most" @click="most += few">Show more of {{ list.length }}</ElButton>
  <HostTable ref="hosts" :engineer="session.engineer" />
  <NoticesForm v-if="session.owner" />
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: start;
  gap: 20px;
}
.counts {
  align-items: end;
  gap: 28px;
  margin-bottom: 14px;
}
.counts p {
  margin: 0;
}
.counts b {
  font-size: 22px;
}
.counts :deep(.el-form-item) {
  margin: 0;
  min-width: 14rem;
}
</style>
