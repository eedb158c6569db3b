<script setup lang="ts">
import { sure } from "../composables/sure";
import FilePick from "./FilePick.vue";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import {
  http,
  ok,
  type AccountChecked,
  type Application,
  type ApplicationConfig,
  type SubjectChange,
} from "../api/client";
import { useAct } from "../composables/load";

const props = defineProps<{
  application: Application;
  readonly?: boolean;
  save: (change: (held: ApplicationConfig) => ApplicationConfig) => Promise<void>;
}>();
type Subject = ApplicationConfig["subject"];
const oidc = computed(() => props.application.kind === "oidc");
const draft = ref<Subject & Record<string, unknown>>({ ...props.application.subject });
const length = computed({
  get: () => (draft.value.maxLength ? String(draft.value.maxLength) : ""),
  set: (v: string) => (draft.value.maxLength = Number(v) || undefined),
});
const field = (name: "from" | "format" | "attribute" | "pattern") =>
  computed({
    get: () => String(draft.value[name] ?? ""),
    set: (v: string) => (draft.value[name] = v.trim() || undefined),
  });
const from = field("from"),
  format = field("format"),
  attribute = field("attribute"),
  pattern = field("pattern");
const subject = computed(() => JSON.parse(JSON.stringify(draft.value)) as Subject);
const accounts = ref("");
const column = ref("");
const change = ref<SubjectChange | null>(null);
const checked = ref<AccountChecked | null>(null);
const { error, busy, act } = useAct();
const path = () => ({ path: { slug: props.application.slug } });
const preview = () =>
  act(async () => {
    change.value = await ok(http.POST("/applications/{slug}/subject", { params: path(), body: subject.value }));
  });
const check = () =>
  act(async () => {
    checked.value = await ok(
      http.POST("/applications/{slug}/accounts", {
        params: path(),
        body: { subject: subject.value, accounts: accounts.value, column: column.value.trim() || undefined },
      }),
    );
  });
const store = () =>
  act(async () => {
    const effect = await ok(http.POST("/applications/{slug}/subject", { params: path(), body: subject.value }));
    change.value = effect;
    if (
      (effect.changed.length || effect.failing.length) &&
      !(await sure(`${effect.sentence}\n\nSave all the same?`, "Save it"))
    )
      return;
    await props.save((held) => ({ ...held, subject: subject.value }));
  });
async function file([f]: File[]) {
  if (f) accounts.value = await f.text();
}
const sources = computed<[string, string][]>(() => [
  ["profile", "A value of the profile"],
  ["pairwise", "Random and stable, different at each application"],
  oidc.value ? ["public", "Random and stable, the same at every application"] : ["transient", "New at each sign-in"],
]);
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
  <ElForm label-position="top" @submit.prevent="store">
    <ElFormItem :label="`The person's identifier (${oidc ? 'sub' : 'NameID'})`">
      <ElSelect v-model="draft.source" :disabled="readonly">
        <ElOption v-for="[value, text] in sources" :key="value" :value="value" :label="text" />
      </ElSelect>
    </ElFormItem>
    <ElFormItem v-if="draft.source === 'profile'" label="Profile value">
      <ElInput v-model="from" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
    </ElFormItem>
    <ElFormItem v-if="!oidc" label="NameID format">
      <ElSelect v-model="format" :disabled="readonly">
        <ElOption
          v-for="[value, text] in [
            ['', 'As fits the source'],
            ['urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified', 'unspecified'],
            ['urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress', 'emailAddress'],
            ['urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', 'persistent'],
            ['urn:oasis:names:tc:SAML:2.0:nameid-format:transient', 'transient'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
    <details>
      <summary>Where it travels, and what the application takes</summary>
      <ElFormItem v-if="!oidc && draft.source !== 'transient'" label="In an attribute of this name">
        <ElInput v-model="attribute" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>In place of the NameID, which is then a new one each time. Empty for the NameID.</small>
      </ElFormItem>
      <ElFormItem label="Most characters">
        <ElInput v-model="length" :disabled="readonly" type="number" autocomplete="off" />
        <small v-if="`Empty for what the standard allows: ${oidc ? 255 : 256}.`">{{
          `Empty for what the standard allows: ${oidc ? 255 : 256}.`
        }}</small>
      </ElFormItem>
      <ElFormItem label="Only of this form">
        <ElInput v-model="pattern" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small
          >A pattern for the whole value, such as [a-z0-9]{3,20}. Others are refused before they reach the
          application.</small
        >
      </ElFormItem>
    </details>
    <p v-if="!readonly" class="row">
      <ElButton type="primary" native-type="submit" :loading="busy">Save the identifier</ElButton>
      <ElButton :loading="busy" @click="preview">Who would become another user?</ElButton>
    </p>
    <div v-if="change" aria-live="polite">
      <p>
        <b>{{ change.sentence }}</b>
      </p>
      <ElTable
        v-if="change.changed.length || change.failing.length"
        table-layout="auto"
        :data="[...change.failing, ...change.changed].slice(0, 50)"
        row-key="id"
      >
        <ElTableColumn label="Person">
          <template #default="{ row: l }">{{ l.person }}</template>
        </ElTableColumn>
        <ElTableColumn label="Known there as">
          <template #default="{ row: l }">
            <span class="mono">{{ l.account }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Would be">
          <template #default="{ row: l }">
            <span class="mono"
              >{{ l.value }} <span class="soft small">{{ l.why }}</span></span
            >
          </template>
        </ElTableColumn>
      </ElTable>
    </div>
    <details v-if="!readonly">
      <summary>Compare with the application's own accounts</summary>
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
    </details>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </ElForm>
</template>

<style scoped>
details {
  margin: 8px 0 12px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
  margin-bottom: 6px;
}
h3 {
  margin-top: 14px;
}
</style>
