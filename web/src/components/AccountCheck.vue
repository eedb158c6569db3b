<script setup lang="ts">
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
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

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
    if ((effect.changed.length || effect.failing.length) && !confirm(`${effect.sentence}\n\nSave all the same?`))
      return;
    await props.save((held) => ({ ...held, subject: subject.value }));
  });
async function file(event: Event) {
  const f = (event.target as HTMLInputElement).files?.[0];
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
  <form @submit.prevent="store">
    <SelectBox
      v-model="draft.source"
      :label="`The person's identifier (${oidc ? 'sub' : 'NameID'})`"
      :disabled="readonly"
      :options="sources"
    />
    <TextBox v-if="draft.source === 'profile'" v-model="from" label="Profile value" mono :disabled="readonly" />
    <SelectBox
      v-if="!oidc"
      v-model="format"
      label="NameID format"
      :disabled="readonly"
      :options="[
        ['', 'As fits the source'],
        ['urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified', 'unspecified'],
        ['urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress', 'emailAddress'],
        ['urn:oasis:names:tc:SAML:2.0:nameid-format:persistent', 'persistent'],
        ['urn:oasis:names:tc:SAML:2.0:nameid-format:transient', 'transient'],
      ]"
    />
    <details>
      <summary>Where it travels, and what the application takes</summary>
      <TextBox
        v-if="!oidc && draft.source !== 'transient'"
        v-model="attribute"
        label="In an attribute of this name"
        hint="In place of the NameID, which is then a new one each time. Empty for the NameID."
        mono
        :disabled="readonly"
      />
      <TextBox
        v-model="length"
        label="Most characters"
        :hint="`Empty for what the standard allows: ${oidc ? 255 : 256}.`"
        type="number"
        :disabled="readonly"
      />
      <TextBox
        v-model="pattern"
        label="Only of this form"
        hint="A pattern for the whole value, such as [a-z0-9]{3,20}. Others are refused before they reach the application."
        mono
        :disabled="readonly"
      />
    </details>
    <p v-if="!readonly" class="row">
      <ElButton type="primary" native-type="submit" :loading="busy">Save the identifier</ElButton
      ><ElButton :loading="busy" @click="preview">Who would become another user?</ElButton>
    </p>
    <div v-if="change" aria-live="polite">
      <p>
        <b>{{ change.sentence }}</b>
      </p>
      <table v-if="change.changed.length || change.failing.length" class="list">
        <thead>
          <tr>
            <th scope="col">Person</th>
            <th scope="col">Known there as</th>
            <th scope="col">Would be</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in [...change.failing, ...change.changed].slice(0, 50)" :key="l.id">
            <td>{{ l.person }}</td>
            <td class="mono">{{ l.account }}</td>
            <td class="mono">
              {{ l.value }} <span class="soft small">{{ l.why }}</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <details v-if="!readonly">
      <summary>Compare with the application's own accounts</summary>
      <TextBox
        v-model="accounts"
        :rows="4"
        mono
        label="Its list of accounts"
        hint="One identifier a line, or CSV with a heading. Spaces are kept, for they may be the difference."
      />
      <p class="row">
        <input
          type="file"
          accept=".csv,.txt,text/plain,text/csv"
          aria-label="A file with the list of accounts"
          @change="file"
        />
      </p>
      <TextBox v-model="column" label="Column with the identifier" hint="In CSV; empty for the first." mono />
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
          <table class="list">
            <thead>
              <tr>
                <th scope="col">Account there</th>
                <th scope="col">Would be sent</th>
                <th scope="col">Person</th>
                <th scope="col">Why</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(l, i) in g.list.slice(0, 50)" :key="i">
                <td class="mono">{{ l.account || "–" }}</td>
                <td class="mono">{{ l.value || "–" }}</td>
                <td>{{ l.person }}</td>
                <td>{{ l.why }}</td>
              </tr>
            </tbody>
          </table></template
        >
      </div>
    </details>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </form>
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
