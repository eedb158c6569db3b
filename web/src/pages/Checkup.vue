<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type Correction, type KeptFinding } from "../api/client";
import NoticesForm from "../components/NoticesForm.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const route = useRoute();
const router = useRouter();
const shown = computed({
  get: () => String(route.query.shown ?? "open"),
  set: (v) => void router.replace({ query: v === "open" ? {} : { shown: v } }),
});
const { data, error: loadError, again } = useLoad(() => ok(http.GET("/findings")));
const outside = useLoad(() => ok(http.GET("/outside")));
const words: Record<string, string> = { broken: "Broken", attention: "Needs attention", remark: "Remark" };
const list = computed(() =>
  (data.value?.items ?? []).filter((f) => (shown.value === "accepted" ? f.accepted : !f.accepted)),
);
const count = (severity: string) =>
  (data.value?.items ?? []).filter((f) => f.severity === severity && !f.accepted).length;
const place = (f: KeptFinding) =>
  ({ application: `/applications/${f.slug}`, provider: `/providers/${f.slug}`, source: `/sources/${f.slug}` })[
    f.kind
  ] ?? "/keyring";
const { error, busy, act } = useAct();
const ran = ref("");
const run = () =>
  act(async () => {
    const r = await ok(http.POST("/checkup"));
    ran.value = `${r.objects} objects were inspected in ${r.millis} ms.`;
    await Promise.all([again(), outside.again()]);
  });
const at = ref("");
const what = ref<"accept" | "correct" | "">("");
const reason = ref("");
const days = ref("30");
const fix = ref<Correction | null>(null);
const { error: hereError, busy: hereBusy, act: here } = useAct();
const openAt = (f: KeptFinding, which: "accept" | "correct") =>
  here(async () => {
    [at.value, what.value, reason.value, fix.value] = [f.id, which, "", null];
    if (which === "correct")
      fix.value = await ok(http.GET("/findings/{id}/correction", { params: { path: { id: f.id } } }));
  });
const settled = async () => {
  [at.value, what.value] = ["", ""];
  await again();
};
const accept = () =>
  here(async () => {
    await ok(
      http.POST("/findings/{id}/accept", {
        params: { path: { id: at.value } },
        body: { reason: reason.value, until: new Date(Date.now() + Number(days.value) * 864e5).toISOString() },
      }),
    );
    await settled();
  });
const reopen = (f: KeptFinding) =>
  act(async () => {
    await ok(http.DELETE("/findings/{id}/accept", { params: { path: { id: f.id } } }));
    await again();
  });
const correct = () =>
  here(async () => {
    await ok(
      http.POST("/findings/{id}/correction", {
        params: { path: { id: at.value } },
        body: { revision: fix.value!.revision },
      }),
    );
    await settled();
  });
const look = (origin: string) =>
  act(async () => {
    outside.data.value = await ok(http.POST("/outside/look", { body: { origin } }));
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
      <b>{{ count("attention") }}</b> to attend to
    </p>
    <p>
      <b>{{ count("remark") }}</b> remarks
    </p>
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
  <article v-for="f in list" :key="f.id" class="panel finding" :class="f.severity" :data-finding="f.code">
    <div class="line">
      <span class="kind">{{ words[f.severity] ?? f.severity }}</span>
      <RouterLink :to="place(f)"
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
    <p v-if="session.engineer && at !== f.id" class="row">
      <ElButton v-if="f.correctable && !f.accepted" size="small" type="primary" @click="openAt(f, 'correct')"
        >Show a correction</ElButton
      >
      <ElButton v-if="!f.accepted" size="small" @click="openAt(f, 'accept')">Accept it for a while</ElButton>
      <ElButton v-else size="small" @click="reopen(f)">Take the acceptance back</ElButton>
    </p>
    <ElForm v-if="at === f.id && what === 'accept'" label-position="top" class="inline" @submit.prevent="accept">
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
        <ElButton type="primary" native-type="submit" :disabled="!reason.trim()" :loading="hereBusy">Accept</ElButton>
        <ElButton @click="at = ''">Leave it</ElButton>
      </p>
    </ElForm>
    <div v-if="at === f.id && what === 'correct'" class="inline">
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
        <ElButton v-if="fix" type="primary" :loading="hereBusy" @click="correct">Make this change</ElButton>
        <ElButton @click="at = ''">Leave it</ElButton>
      </p>
    </div>
    <p v-if="at === f.id && hereError" class="error" role="alert">{{ hereError }}</p>
  </article>

  <section>
    <h2>Partners' hosts</h2>
    <p class="soft">
      Every six hours the gate asks each host of an open partner for its first page: whether it answers, what its clock
      says, and until when its TLS certificate is good.
    </p>
    <p v-if="outside.error.value" class="error" role="alert">{{ outside.error.value }}</p>
    <ElTable
      v-if="outside.data.value?.items.length"
      table-layout="auto"
      :data="outside.data.value.items"
      row-key="origin"
    >
      <ElTableColumn label="Host">
        <template #default="{ row: h }">
          <span class="mono">{{ h.origin }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Of">
        <template #default="{ row: h }">
          <RouterLink v-for="u in h.usedBy" :key="u.kind + u.slug" class="of" :to="`/${u.kind}s/${u.slug}`">{{
            u.name
          }}</RouterLink>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Answer">
        <template #default="{ row: h }">{{ !h.looked ? "not yet" : h.error || `${h.millis} ms` }}</template>
      </ElTableColumn>
      <ElTableColumn label="Clock">
        <template #default="{ row: h }">{{
          h.skewSeconds === undefined
            ? "–"
            : Math.abs(h.skewSeconds) < 2
              ? "as ours"
              : `${h.skewSeconds > 0 ? "+" : ""}${h.skewSeconds} s`
        }}</template>
      </ElTableColumn>
      <ElTableColumn label="TLS certificate">
        <template #default="{ row: h }">
          <template v-if="h.certEnds">ends <TimeText :at="h.certEnds" from /></template><template v-else>–</template>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Looked at">
        <template #default="{ row: h }">
          <TimeText :at="h.looked" from />
        </template>
      </ElTableColumn>
      <ElTableColumn>
        <template #header>
          <span class="visually-hidden">Acts</span>
        </template>
        <template #default="{ row: h }">
          <ElButton v-if="session.engineer" size="small" :loading="busy" @click="look(h.origin)">Look now</ElButton>
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else class="soft">No partner that is open has a host.</p>
  </section>
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
  margin: 0 0 0 auto;
  min-width: 14rem;
}
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
.of {
  margin-right: 8px;
}
section {
  margin-top: 26px;
}
</style>
