<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { http, ok, type Preview, type Previewed } from "../api/client";
import { useAct } from "../composables/load";
import PersonPick from "./PersonPick.vue";

const props = defineProps<{ ask: () => Preview; trace?: string; direction?: "in" | "out" }>();
const by = ref(props.trace ? "trace" : props.direction === "out" ? "profile" : "sample");
const ways = computed<[string, string][]>(() => [
  ["trace", "a real sign-in, by its trace"],
  ["person", "a person known here"],
  ...(props.direction === "out" ? ([["profile", "a profile that I type"]] as [string, string][]) : []),
  ["sample", "what a provider sends, pasted or typed"],
]);
const trace = ref(props.trace ?? "");
const sample = ref("");
const person = ref("");
const got = ref<Previewed | null>(null);
// The newest sign-in may come to be known only now; what somebody entered meanwhile is theirs.
watch(
  () => props.trace,
  (newest) => {
    if (!newest || trace.value || sample.value || person.value) return;
    by.value = "trace";
    trace.value = newest;
  },
);
const { error, busy, act } = useAct();
const ready = computed(() =>
  by.value === "trace" ? trace.value.trim() : by.value === "person" ? person.value : sample.value.trim(),
);
const run = () =>
  act(async () => {
    const input =
      by.value === "trace"
        ? { trace: trace.value.trim() }
        : by.value === "person"
          ? { person: person.value }
          : { sample: sample.value, asProfile: by.value === "profile" || undefined };
    got.value = await ok(http.POST("/preview", { body: { ...props.ask(), ...input } }));
  });
const names = (bag: Record<string, string[] | undefined> | undefined) => Object.keys(bag ?? {}).sort();
const few = (v?: string[]) =>
  (v ?? []).length > 6 ? `${v!.slice(0, 6).join(", ")} and ${v!.length - 6} more` : (v ?? []).join(", ") || "–";
const results: Record<string, string> = {
  allow: "gets in",
  refuse: "is refused",
  stronger: "is asked for a second factor",
};
</script>

<template>
  <section class="preview">
    <ElForm label-position="top" @submit.prevent="run">
      <ElFormItem label="Preview with">
        <ElSelect v-model="by">
          <ElOption v-for="[value, text] in ways" :key="value" :value="value" :label="text" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem v-if="by === 'trace'" label="Trace number">
        <ElInput v-model="trace" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <PersonPick v-else-if="by === 'person'" v-model="person" label="Person" />
      <ElFormItem v-else :label="by === 'profile' ? 'The profile' : 'What comes'">
        <ElInput v-model="sample" type="textarea" :rows="3" class="mono" spellcheck="false" autocomplete="off" />
        <small>{{
          by === "profile"
            ? "Lines such as email = mira.voss@saltmere.example."
            : "An assertion, a token, claims as JSON, or lines such as mail = mira.voss@saltmere.example."
        }}</small>
      </ElFormItem>
      <ElButton native-type="submit" :loading="busy" :disabled="!ready">Show what would become of it</ElButton>
      <span class="soft small">Nothing is written, and what is not saved yet counts.</span>
    </ElForm>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <div v-if="got" class="result" aria-live="polite">
      <p v-if="got.refused" class="error">
        <b>{{ got.refused.title }}.</b> {{ got.refused.cause }} {{ got.refused.remedy }}
      </p>
      <p v-for="p in [...got.in.problems, ...(got.out?.problems ?? [])]" :key="p.rule + p.message" class="error">
        <b class="mono">{{ p.rule }}</b>: {{ p.message }}
      </p>
      <p v-if="got.access">
        <b>{{ got.person || "Somebody" }} {{ results[got.access.result] }}</b
        >: {{ got.access.by }}.
      </p>
      <template v-if="got.differences.length"
        ><h3>What changes against what is live</h3>
        <ElTable table-layout="auto" :data="got.differences">
          <ElTableColumn label="Where">
            <template #default="{ row: d }">{{ d.where }}</template>
          </ElTableColumn>
          <ElTableColumn label="What">
            <template #default="{ row: d }">
              <span class="mono">{{ d.name }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Live">
            <template #default="{ row: d }">
              <span class="mono gone">{{ few(d.live) }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="With the change">
            <template #default="{ row: d }">
              <span class="mono come">{{ few(d.draft) }}</span>
            </template>
          </ElTableColumn>
        </ElTable>
      </template>
      <div class="halves">
        <div>
          <h3>The profile</h3>
          <ElTable
            table-layout="auto"
            :data="names(got.profile).map((n) => ({ n, v: got!.profile[n] }))"
            :show-header="false"
            empty-text="Nothing."
          >
            <ElTableColumn>
              <template #default="{ row: r }">
                <span class="mono">{{ r.n }}</span>
              </template>
            </ElTableColumn>
            <ElTableColumn>
              <template #default="{ row: r }">{{ few(r.v) }}</template>
            </ElTableColumn>
          </ElTable>
        </div>
        <div v-if="got.out">
          <h3>What is sent</h3>
          <p>
            <b>the identifier</b> <span class="mono">{{ got.subject || "–" }}</span><br v-if="got.subjectWhy" /><span
              class="soft small"
              >{{ got.subjectWhy }}</span
            >
          </p>
          <ElTable
            table-layout="auto"
            :data="names(got.out.attributes).map((n) => ({ n, v: got!.out!.attributes[n] }))"
            :show-header="false"
            empty-text="No attribute."
          >
            <ElTableColumn>
              <template #default="{ row: r }">
                <span class="mono">{{ r.n }}</span>
              </template>
            </ElTableColumn>
            <ElTableColumn>
              <template #default="{ row: r }">{{ few(r.v) }}</template>
            </ElTableColumn>
          </ElTable>
        </div>
      </div>
      <details v-if="got.decisions.length">
        <summary>What was decided, and why</summary>
        <p v-for="(d, i) in got.decisions" :key="i">
          <b>{{ d.about }}</b>: {{ d.result }}<template v-if="d.by"> · {{ d.by }}</template
          ><span v-for="p in d.passed ?? []" :key="p" class="soft small"><br />passed over: {{ p }}</span>
        </p>
      </details>
      <details v-if="got.sent">
        <summary>As it would be sent, without a signature</summary>
        <pre class="mono">{{ got.sent }}</pre>
      </details>
    </div>
  </section>
</template>

<style scoped>
.preview {
  margin-top: 16px;
  border-top: 1px solid var(--rule);
  padding-top: 14px;
}
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 20px;
  margin: 10px 0;
}
.gone {
  background: var(--rust-tint);
}
.come {
  background: var(--moss-tint);
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  background: var(--well);
  padding: 12px;
  border-radius: 3px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
}
h3 {
  margin-top: 12px;
}
</style>
