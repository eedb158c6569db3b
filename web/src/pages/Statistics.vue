<script setup lang="ts">
import { computed, defineAsyncComponent } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import TimeText from "../components/TimeText.vue";
import TraceNav from "../components/TraceNav.vue";
import SilentNodes from "../components/SilentNodes.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useLoad } from "../composables/load";

const SignInChart = defineAsyncComponent(() => import("../components/SignInChart.vue"));
const route = useRoute();
const router = useRouter();
const asked = (name: string, usual: string) =>
  computed({
    get: () => String(route.query[name] ?? usual),
    set: (v) => void router.replace({ query: { ...route.query, [name]: v === usual ? undefined : v } }),
  });
const days = asked("days", "7");
const application = asked("application", "");
const { data, error } = useLoad(
  () =>
    ok(
      http.GET("/statistics", { params: { query: { days: days.value, application: application.value || undefined } } }),
    ),
  [days, application],
);
const percent = (r?: number) => (r === undefined ? "–" : `${(r * 100).toFixed(1)} %`);
const worse = computed(
  () =>
    data.value?.rateNow !== undefined &&
    data.value.rateUsual !== undefined &&
    data.value.rateNow > 0.02 &&
    data.value.rateNow > 2 * data.value.rateUsual,
);
</script>

<template>
  <h1>Sign-ins over time</h1>
  <p class="sub">What has ended, rehearsals left out. Counted as it happens, so that it stays when traces go.</p>
  <TraceNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <SilentNodes :nodes="data?.silent" />
  <div class="row choice">
    <ElFormItem label="Time">
      <ElSelect v-model="days">
        <ElOption
          v-for="[value, text] in [
            ['1', 'a day'],
            ['7', 'a week'],
            ['30', '30 days'],
            ['90', '90 days'],
            ['366', 'a year'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
    <ElFormItem label="Application">
      <ObjectPick v-model="application" of="applications" none="all" />
    </ElFormItem>
  </div>
  <template v-if="data">
    <div class="row figures">
      <p>
        <b>{{ data.signedIn }}</b> signed in
      </p>
      <p>
        <b>{{ data.refused }}</b> refused
      </p>
      <p :class="{ worse }">
        <b>{{ percent(data.rateNow) }}</b> refused in the last day
      </p>
      <p>
        <b>{{ percent(data.rateUsual) }}</b> before that
      </p>
    </div>
    <p v-if="worse" role="status">
      <b>More are refused than usual.</b> The codes below say why; each leads to its traces.
    </p>
    <section class="panel"><SignInChart :buckets="data.buckets" :bucket="data.bucket" /></section>
    <div class="three">
      <section
        v-for="[head, list, path] in [
          ['Applications', data.applications, 'applications'],
          ['Providers', data.providers, 'providers'],
        ] as const"
        :key="head"
      >
        <h2>{{ head }}</h2>
        <ElTable v-if="list.length" table-layout="auto" :data="list">
          <ElTableColumn label="Name">
            <template #default="{ row: l }">
              <RouterLink v-if="l.slug" :to="`/${path}/${l.slug}`">{{ l.name }}</RouterLink><span v-else class="soft">{{
                l.name
              }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Signed in">
            <template #default="{ row: l }">{{ l.signedIn }}</template>
          </ElTableColumn>
          <ElTableColumn label="Refused">
            <template #default="{ row: l }">{{ l.refused }}</template>
          </ElTableColumn>
          <ElTableColumn v-if="path === 'applications'" label="Last success">
            <template #default="{ row: l }">
              <TimeText :at="l.lastSuccess" from />
            </template>
          </ElTableColumn>
        </ElTable>
        <p v-else class="soft">No sign-in has ended in this time.</p>
      </section>
      <section>
        <h2>Why they were refused</h2>
        <ElTable v-if="data.codes.length" table-layout="auto" :data="data.codes" row-key="name">
          <ElTableColumn label="Code">
            <template #default="{ row: l }">
              <RouterLink :to="`/traces?search=${l.name}`">{{ l.title || l.name }}</RouterLink><br /><span
                class="mono soft small"
                >{{ l.name }}</span
              >
            </template>
          </ElTableColumn>
          <ElTableColumn label="Times">
            <template #default="{ row: l }">{{ l.refused }}</template>
          </ElTableColumn>
        </ElTable>
        <p v-else class="soft">Nothing was refused.</p>
      </section>
    </div>
  </template>
</template>

<style scoped>
.choice {
  gap: 20px;
  margin-bottom: 8px;
}
.choice :deep(.el-form-item) {
  min-width: 14rem;
  margin: 0;
}
.figures {
  gap: 34px;
  margin: 14px 0;
}
.figures p {
  margin: 0;
}
.figures b {
  font-size: 22px;
}
.worse b {
  color: var(--rust);
}
.three {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 24px;
  margin-top: 20px;
  align-items: start;
}
@media (max-width: 1000px) {
  .three {
    grid-template-columns: 1fr;
  }
}
</style>
