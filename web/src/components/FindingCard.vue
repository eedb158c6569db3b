<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Correction, type KeptFinding } from "../api/client";
import { useAct } from "../composables/load";
import TimeText from "./TimeText.vue";

// One finding of the checkup: what it is and what to do, to be accepted for a while, or corrected where the gate can.
const props = defineProps<{ f: KeptFinding; engineer: boolean }>();
const emit = defineEmits<{ settled: [] }>();
const words: Record<string, string> = { broken: "Broken", attention: "Needs attention", remark: "Remark" };
const places: Record<string, string> = {
  application: `/applications/${props.f.slug}`,
  provider: `/providers/${props.f.slug}`,
  source: `/sources/${props.f.slug}`,
};
const place = computed(() => places[props.f.kind] ?? "/keyring");
const what = ref<"accept" | "correct" | "">("");
const reason = ref("");
const days = ref("30");
const fix = ref<Correction | null>(null);
const { error, busy, act } = useAct();
const params = () => ({ path: { id: props.f.id } });
const open = (which: "accept" | "correct") =>
  act(async () => {
    [what.value, reason.value, fix.value] = [which, "", null];
    if (which === "correct") fix.value = await ok(http.GET("/findings/{id}/correction", { params: params() }));
  });
const settle = (run: () => Promise<unknown>) =>
  act(async () => {
    await run();
    what.value = "";
    emit("settled");
  });
const accept = () =>
  settle(() => {
    const until = new Date(Date.now() + Number(days.value) * 864e5).toISOString();
    return ok(http.POST("/findings/{id}/accept", { params: params(), body: { reason: reason.value, until } }));
  });
const reopen = () => settle(() => ok(http.DELETE("/findings/{id}/accept", { params: params() })));
const correct = () =>
  settle(() =>
    ok(http.POST("/findings/{id}/correction", { params: params(), body: { revision: fix.value!.revision } })),
  );
</script>

<template>
  <article class="panel finding" :class="f.severity" :data-finding="f.code">
    <div class="line">
      <span class="kind">{{ words[f.severity] ?? f.severity }}</span>
      <RouterLink :to="place"
        ><b>{{ f.name }}</b></RouterLink
      >
      <span class="soft small"
        >since <TimeText :at="f.firstSeen" from /> · <span class="mono">{{ f.code }}</span></span
      >
    </div>
    <h2>{{ f.title }}</h2>
    <p>
      {{ f.detail }} <template v-if="f.remedy"><b>What to do:</b> {{ f.remedy }}</template>
    </p>
    <p v-for="e in f.evidence ?? []" :key="e.label" class="small">
      <span class="soft">{{ e.label }}</span> <span class="mono">{{ e.got }}</span>
    </p>
    <p v-if="f.accepted" class="small">
      Accepted by {{ f.accepted.by }} until <TimeText :at="f.accepted.until" />: {{ f.accepted.reason }}
    </p>
    <p v-if="engineer && !what" class="row">
      <ElButton v-if="f.correctable && !f.accepted" size="small" type="primary" @click="open('correct')"
        >Show a correction</ElButton
      >
      <ElButton v-if="!f.accepted" size="small" @click="open('accept')">Accept it for a while</ElButton>
      <ElButton v-else size="small" @click="reopen">Take the acceptance back</ElButton>
    </p>
    <ElForm v-if="what === 'accept'" label-position="top" class="inline" @submit.prevent="accept">
      <ElFormItem label="Why">
        <ElInput v-model="reason" autocomplete="off" />
        <small>For whoever reads it next.</small>
      </ElFormItem>
      <ElFormItem label="For">
        <ElSelect v-model="days">
          <ElOption
            v-for="[value, text] in [
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
      <p class="row">
        <ElButton type="primary" native-type="submit" :disabled="!reason.trim()" :loading="busy">Accept</ElButton>
        <ElButton @click="what = ''">Leave it</ElButton>
      </p>
    </ElForm>
    <div v-if="what === 'correct'" class="inline">
      <template v-if="fix"
        ><p>{{ fix.words }}</p>
        <ElTable table-layout="auto" :data="fix.changes" row-key="field">
          <ElTableColumn label="Field">
            <template #default="{ row: c }">
              <span class="mono">{{ c.field }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Now">
            <template #default="{ row: c }">
              <span class="mono">{{ c.before || "–" }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Then">
            <template #default="{ row: c }">
              <span class="mono">{{ c.after || "–" }}</span>
            </template>
          </ElTableColumn>
        </ElTable>
      </template>
      <p class="row">
        <ElButton v-if="fix" type="primary" :loading="busy" @click="correct">Make this change</ElButton>
        <ElButton @click="what = ''">Leave it</ElButton>
      </p>
    </div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </article>
</template>

<style scoped>
.finding {
  border-left-width: 4px;
  padding: 12px 16px;
  margin-bottom: 12px;
}
.finding h2 {
  margin: 4px 0 6px;
  font-size: 16px;
}
.finding p {
  margin: 0 0 6px;
}
.finding.broken {
  border-left-color: var(--rust-line);
}
.finding.attention {
  border-left-color: var(--brass-line);
}
.broken .kind {
  color: var(--rust);
}
.attention .kind {
  color: var(--brass);
}
.line {
  display: flex;
  gap: 10px;
  align-items: baseline;
  flex-wrap: wrap;
}
.inline {
  border-top: 1px solid var(--rule);
  margin-top: 8px;
  padding-top: 10px;
  max-width: 46rem;
}
</style>
