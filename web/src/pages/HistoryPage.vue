<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type ConfigResult, type Revision, type RevisionView } from "../api/client";
import ChangesNav from "../components/ChangesNav.vue";
import ConfigSteps from "../components/ConfigSteps.vue";
import CopyValue from "../components/CopyValue.vue";
import FieldChanges from "../components/FieldChanges.vue";
import ListPage from "../components/ListPage.vue";
import RestoreAll from "../components/RestoreAll.vue";
import TimeText from "../components/TimeText.vue";
import { inShort, pageOf } from "../composables/changes";
import { useAct } from "../composables/load";

const route = useRoute();
const router = useRouter();
const kind = computed(() => String(route.query.kind ?? ""));
const slug = computed(() => String(route.query.slug ?? ""));
const turn = ref(0);
const load = (query: Record<string, string>) => ok(http.GET("/history", { params: { query } }));
const open = ref<RevisionView | null>(null);
const preview = ref<ConfigResult | null>(null);
const done = ref<ConfigResult | null>(null);
const remark = ref("");
const { error, busy, act } = useAct();

const show = (r: Revision) =>
  act(async () => {
    if (open.value?.kind === r.kind && open.value.slug === r.slug && open.value.number === r.number) {
      open.value = null;
      return;
    }
    preview.value = null;
    open.value = await ok(
      http.GET("/history/revision", {
        params: { query: { kind: r.kind, slug: r.slug, number: String(r.number), against: "0" } },
      }),
    );
  });
const isOpen = (r: Revision) =>
  open.value?.kind === r.kind && open.value.slug === r.slug && open.value.number === r.number;
const keyOf = (r: Pick<Revision, "kind" | "slug" | "number">) => `${r.kind}/${r.slug}/${r.number}`;
const opened = computed(() => (open.value ? keyOf(open.value) : ""));
const only = (r: Revision) => void router.replace({ query: { kind: r.kind, slug: r.slug } });
const restore = (look: boolean) =>
  act(async () => {
    const r = open.value!;
    const got = await ok(
      http.POST("/history/restore", {
        body: { kind: r.kind, slug: r.slug, number: r.number, preview: look, remark: remark.value.trim() || undefined },
      }),
    );
    await after(got, look);
  });

async function after(got: ConfigResult, look: boolean) {
  if (look) {
    preview.value = got;
    return;
  }
  [done.value, preview.value, open.value, remark.value] = [got, null, null, ""];
  turn.value++;
}
const kinds: [string, string][] = [
  "application",
  "provider",
  "group",
  "rule set",
  "source",
  "template",
  "assignment",
  "setting",
].map((k) => [k, k]);
</script>

<template>
  <h1>History</h1>
  <p class="sub">
    Every version of everything that is configured. Any of them can be brought back; that is a change like any other,
    and can be taken back as well.
  </p>
  <ChangesNav />
  <p v-if="slug" class="row">
    <b>{{ kind }} {{ slug }}</b> <RouterLink v-if="pageOf(kind, slug)" :to="pageOf(kind, slug)!">its page</RouterLink>
    <RouterLink to="/history">everything</RouterLink>
  </p>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <section v-if="done" class="panel done">
    <h2>Brought back</h2>
    <ConfigSteps :result="done" done />
  </section>
  <ListPage
    :key="turn"
    :load="load"
    search="Name, author or remark"
    :filters="slug ? [] : [{ name: 'kind', label: 'What', options: kinds }]"
  >
    <template #default="{ items }">
      <ElTable
        table-layout="auto"
        :data="items"
        :row-key="keyOf"
        :expand-row-keys="opened ? [opened] : []"
        class="revisions"
        @expand-change="(r: Revision) => show(r)"
      >
        <ElTableColumn type="expand" width="1">
          <template #default="{ row: r }">
            <div v-if="isOpen(r as Revision) && open" class="opened">
              <div class="cols two">
                <div>
                  <h3>What it changed</h3>
                  <FieldChanges
                    :changes="open.changes"
                    :empty="open.action === 'remove' ? 'It was deleted.' : undefined"
                  />
                </div>
                <div v-if="open.against !== open.number">
                  <h3>From it to what holds now (no. {{ open.against }})</h3>
                  <FieldChanges :changes="open.differences" />
                </div>
              </div>
              <details v-if="open.text">
                <summary>As it stands in a file</summary>
                <CopyValue :value="open.text" label="this version as a file" block />
              </details>
              <div v-if="open.against !== open.number || open.action === 'remove'" class="row restore">
                <ElFormItem label="Remark">
                  <ElInput v-model="remark" autocomplete="off" />
                  <small>Why; it stands in the history.</small>
                </ElFormItem>
                <ElButton :loading="busy" @click="restore(true)">See what bringing it back would do</ElButton>
                <ElButton v-if="preview" type="primary" :loading="busy" @click="restore(false)">Bring it back</ElButton>
              </div>
              <ConfigSteps v-if="preview" :result="preview" />
            </div>
          </template>
        </ElTableColumn>
        <ElTableColumn label="When">
          <template #default="{ row: r }">
            <TimeText :at="r.at" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="What">
          <template #default="{ row: r }"
            >{{ r.kind }}
            <ElButton link type="primary" :title="`Only ${r.name}`" @click="only(r as Revision)">{{
              r.name || r.slug
            }}</ElButton>
          </template>
        </ElTableColumn>
        <ElTableColumn label="No.">
          <template #default="{ row: r }">{{ r.number }}</template>
        </ElTableColumn>
        <ElTableColumn label="Who">
          <template #default="{ row: r }">{{ r.author || "–" }}</template>
        </ElTableColumn>
        <ElTableColumn label="Changed">
          <template #default="{ row: r }">
            <span class="small mono">
              <ElButton link type="primary" :aria-expanded="isOpen(r as Revision)" @click="show(r as Revision)">{{
                inShort(r as Revision) || "nothing that shows"
              }}</ElButton>
            </span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Remark">
          <template #default="{ row: r }">
            <span class="small">{{ r.remark }}</span>
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <template #empty>
      <p>Nothing was changed yet.</p>
    </template>
  </ListPage>
  <RestoreAll v-if="!slug" @done="after($event, false)" />
</template>

<style scoped>
.link {
  background: none;
  border: 0;
  padding: 0;
  color: var(--sea);
  font: inherit;
  text-align: left;
  cursor: pointer;
  text-decoration: underline;
  overflow-wrap: anywhere;
}
.cols.two {
  grid-template-columns: 1fr 1fr;
}
.restore {
  align-items: end;
  margin-top: 12px;
}
.restore :deep(.el-form-item) {
  margin: 0;
  min-width: 14rem;
}
.done {
  margin-top: 24px;
}
details {
  margin-top: 10px;
}
summary {
  cursor: pointer;
  color: var(--sea);
}
@media (max-width: 980px) {
  .cols.two {
    grid-template-columns: 1fr;
  }
}
</style>
