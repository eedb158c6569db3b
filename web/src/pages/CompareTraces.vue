<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import TimeText from "../components/TimeText.vue";
import { useLoad } from "../composables/load";
import { outcomeWords } from "../composables/text";
import { said } from "../composables/trace";

const route = useRoute();
const router = useRouter();
const one = computed(() => String(route.params.reference));
const other = computed(() => String(route.query.with ?? ""));
const typed = ref("");
const { data, error } = useLoad(
  () =>
    ok(
      http.GET("/traces/{reference}/compare", {
        params: { path: { reference: one.value }, query: { with: other.value || undefined } },
      }),
    ),
  [one, other],
);
const all = ref(false);
const rows = computed(() =>
  (data.value?.rows ?? []).map((r, i) => ({ ...r, i })).filter((r) => all.value || r.difference),
);
const go = () =>
  router.push({ path: `/traces/${one.value}/compare`, query: { with: typed.value.trim().toUpperCase() } });
</script>

<template>
  <h1>Two sign-ins side by side</h1>
  <p class="sub">The elder on the left. Times, identifiers and what is personal differ by nature.</p>
  <ElForm label-position="top" class="row other" @submit.prevent="go">
    <ElFormItem label="Compare with another">
      <ElInput v-model="typed" class="mono" spellcheck="false" autocomplete="off" />
      <small>Its reference number. Without one: the newest good sign-in before.</small>
    </ElFormItem>
    <ElButton native-type="submit" :disabled="!typed.trim()">Compare</ElButton>
  </ElForm>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="data">
    <div class="pair">
      <section
        v-for="[t, side] in [
          [data.a, 'A'],
          [data.b, 'B'],
        ] as const"
        :key="side"
        class="panel"
      >
        <h2>
          {{ side }} <RouterLink :to="`/traces/${t.reference}`" class="mono">{{ t.reference }}</RouterLink>
          <span class="tag" :class="outcomeWords[t.outcome]?.state">{{ outcomeWords[t.outcome]?.text }}</span>
        </h2>
        <p class="soft">
          {{ t.application }}<template v-if="t.provider"> through {{ t.provider }}</template
          ><template v-if="t.person"> · {{ t.person }}</template> · <TimeText :at="t.started" />
        </p>
        <p v-if="t.title">{{ t.title }}</p>
      </section>
    </div>
    <p class="words" role="status">
      <b>{{ data.words }}</b>
    </p>
    <section v-if="data.configuration.length" class="panel">
      <h2>Changed in between</h2>
      <div v-for="c in data.configuration" :key="c.object.kind + c.object.slug + c.revision">
        <p>
          <RouterLink :to="`/${c.object.kind}s/${c.object.slug}`">{{ c.object.name }}</RouterLink>, by {{ c.by }},
          <TimeText :at="c.at" />
        </p>
        <ElTable table-layout="auto" :data="c.changes" row-key="field">
          <ElTableColumn label="Field">
            <template #default="{ row: x }">
              <span class="mono">{{ x.field }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Before">
            <template #default="{ row: x }">
              <span class="mono">{{ x.before || "–" }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Then">
            <template #default="{ row: x }">
              <span class="mono">{{ x.after || "–" }}</span>
            </template>
          </ElTableColumn>
        </ElTable>
      </div>
    </section>
    <div class="row top">
      <h2>Step by step</h2>
      <ElCheckbox v-model="all">What is alike, too</ElCheckbox>
    </div>
    <ElTable
      table-layout="auto"
      :data="rows"
      row-key="i"
      :row-class-name="
        ({ row }) => [row.i === data?.first && 'first', !row.matters && 'mild'].filter(Boolean).join(' ')
      "
    >
      <ElTableColumn label="Step">
        <template #default="{ row: r }">{{ r.step }}</template>
      </ElTableColumn>
      <ElTableColumn label="What">
        <template #default="{ row: r }"
          >{{ r.kind }}<br /><span class="small soft">{{ r.name }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="A">
        <template #default="{ row: r }">
          <span class="mono small">{{ said(r.a) }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="B">
        <template #default="{ row: r }">
          <span class="mono small">{{ said(r.b) }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Difference">
        <template #default="{ row: r }">{{ r.difference || "alike" }}</template>
      </ElTableColumn>
    </ElTable>
    <p v-if="!rows.length" class="soft">Nothing differs.</p>
  </template>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 20px;
}
.pair h2 {
  margin-top: 0;
}
.other {
  align-items: end;
  gap: 12px;
  margin-bottom: 14px;
}
.other :deep(.el-form-item) {
  margin: 0;
  width: 26rem;
}
.words {
  margin: 18px 0;
  font-size: 17px;
  border-left: 4px solid var(--brass-line);
  padding-left: 14px;
}
.top {
  justify-content: space-between;
  margin-top: 18px;
}
.first {
  background: var(--brass-tint);
}
</style>
