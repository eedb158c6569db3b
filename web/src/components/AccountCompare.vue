<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type AccountChecked, type ApplicationConfig } from "../api/client";
import { useAct } from "../composables/load";
import FilePick from "./FilePick.vue";

const props = defineProps<{ slug: string; subject: ApplicationConfig["subject"] }>();
const accounts = ref("");
const column = ref("");
const checked = ref<AccountChecked | null>(null);
const { error, busy, act } = useAct();
const check = () =>
  act(async () => {
    checked.value = await ok(
      http.POST("/applications/{slug}/accounts", {
        params: { path: { slug: props.slug } },
        body: { subject: props.subject, accounts: accounts.value, column: column.value.trim() || undefined },
      }),
    );
  });
async function file([f]: File[]) {
  if (f) accounts.value = await f.text();
}
const groups = computed(() => {
  const c = checked.value;
  if (!c) return [];
  return [
    {
      title: "Differ only a little",
      list: c.differing,
      n: c.counts.differing,
      means: "These people would get a new account, or none, because of that.",
    },
    {
      title: "Stand double",
      list: c.doubled,
      n: c.counts.doubled,
      means: "One identifier for several people is never safe.",
    },
    { title: "Can't be sent", list: c.unfit, n: c.counts.unfit, means: "" },
    { title: "Have no account yet", list: c.newcomers, n: c.counts.newcomers, means: "" },
  ].filter((g) => g.list.length);
});
</script>

<template>
  <ElFormItem label="Its list of accounts">
    <ElInput v-model="accounts" type="textarea" :rows="4" class="mono" spellcheck="false" autocomplete="off" />
    <small>One identifier a line, or CSV with a heading. Spaces are kept, for they may be the difference.</small>
  </ElFormItem>
  <FilePick label="A file with the list of accounts" small accept=".csv,.txt,text/plain,text/csv" @files="file" />
  <ElFormItem label="Column with the identifier">
    <ElInput v-model="column" class="mono" spellcheck="false" autocomplete="off" />
    <small>In CSV; empty for the first.</small>
  </ElFormItem>
  <ElButton :loading="busy" :disabled="!accounts.trim()" @click="check">Compare</ElButton>
  <div v-if="checked" aria-live="polite">
    <p>
      <b>{{ checked.matching }} of {{ checked.accounts }} accounts match somebody here.</b> {{ checked.remark }}
    </p>
    <p v-if="checked.missing.length">
      Nobody here would get: <span class="mono">{{ checked.missing.slice(0, 30).join(", ") }}</span><template
        v-if="(checked.counts.missing ?? 0) > 30"
      >
        and {{ checked.counts.missing! - 30 }} more</template
      >
    </p>
    <template v-for="g in groups" :key="g.title"
      ><h3>{{ g.title }} ({{ g.n }})</h3>
      <p v-if="g.means" class="soft small">{{ g.means }}</p>
      <ElTable table-layout="auto" :data="g.list.slice(0, 50)">
        <ElTableColumn label="Account there">
          <template #default="{ row: l }">
            <span class="mono">{{ l.account || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Would be sent">
          <template #default="{ row: l }">
            <span class="mono">{{ l.value || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Person">
          <template #default="{ row: l }">{{ l.person }}</template>
        </ElTableColumn>
        <ElTableColumn label="Why">
          <template #default="{ row: l }">{{ l.why }}</template>
        </ElTableColumn>
      </ElTable>
    </template>
  </div>

  <p v-if="error" class="error" role="alert">{{ error }}</p>
</template>

<style scoped>
h3 {
  margin-top: 14px;
}
</style>
