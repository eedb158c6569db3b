<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok, type Rule, type Suggested, type Suggestion } from "../api/client";
import { useAct } from "../composables/load";
import { stepText } from "../composables/text";

const props = defineProps<{ direction: "in" | "out"; mapping: () => Rule[]; sample?: string }>();
const emit = defineEmits<{ add: [rule: Rule, instead?: number] }>();
const text = ref(props.sample ?? "");
const found = ref<Suggested | null>(null);
const taken = ref<string[]>([]);
const { error, busy, act } = useAct();
const sureWords: Record<string, { state: string; text: string }> = {
  certain: { state: "sound", text: "certain" },
  likely: { state: "attention", text: "likely" },
  guess: { state: "", text: "a guess" },
};

const ask = () =>
  act(async () => {
    found.value = await ok(
      http.POST("/mapping/suggest", {
        body: { direction: props.direction, sample: text.value, mapping: props.mapping() },
      }),
    );
    taken.value = [];
  });
function add(s: Suggestion) {
  emit("add", s.rule as Rule, s.now || undefined);
  taken.value.push(s.rule.set ?? "");
}
const rest = () => (found.value?.items ?? []).filter((s) => !taken.value.includes(s.rule.set ?? ""));
// The newest sign-in may come to be known only after somebody asked for rules; what they entered meanwhile is theirs.
watch(
  () => props.sample,
  (sample) => {
    if (!sample || found.value || (text.value && text.value !== sample)) return;
    text.value = sample;
    void ask();
  },
  { immediate: true },
);
const sources = (r: Suggestion["rule"]) =>
  ([] as string[]).concat((r.from as string | string[] | undefined) ?? []).join(", ");
</script>

<template>
  <section class="propose">
    <ElForm label-position="top" @submit.prevent="ask">
      <ElFormItem :label="direction === 'in' ? 'A sample of what comes' : 'What the application wants'">
        <ElInput v-model="text" type="textarea" :rows="3" class="mono" spellcheck="false" autocomplete="off" />
        <small>{{
          direction === "in"
            ? "A trace's number, an assertion, a token, claims as JSON, or names with or without values. Nothing in it is trusted."
            : "The names that the application's documentation lists, one a line."
        }}</small>
      </ElFormItem>
      <ElButton native-type="submit" :loading="busy" :disabled="!text.trim()">Propose</ElButton>
    </ElForm>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <template v-if="found">
      <p class="soft">From {{ found.source }}. Nothing is added unasked.</p>
      <ElTable v-if="found.items.length" table-layout="auto" :data="found.items">
        <ElTableColumn label="Sets">
          <template #default="{ row: s }">
            <span class="mono">{{ s.rule.set }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="From">
          <template #default="{ row: s }">
            <span class="mono"
              >{{ sources(s.rule) }}<br /><span v-for="st in s.rule.steps ?? []" :key="stepText(st)" class="soft small"
                >{{ stepText(st) }}
              </span></span
            >
          </template>
        </ElTableColumn>
        <ElTableColumn label="Makes of the sample">
          <template #default="{ row: s }"
            >{{ (s.values ?? []).slice(0, 4).join(", ") || "–"
            }}<template v-if="(s.values?.length ?? 0) > 4"> and {{ s.values!.length - 4 }} more</template>
          </template>
        </ElTableColumn>
        <ElTableColumn label="How sure">
          <template #default="{ row: s }">
            <span class="tag" :class="sureWords[s.sure]?.state">{{
              sureWords[s.sure]?.text ?? s.sure
            }}</span><br /><span class="soft small">{{ s.why }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn>
          <template #header>
            <span class="visually-hidden">Acts</span>
          </template>
          <template #default="{ row: s }">
            <span v-if="taken.includes(s.rule.set ?? '')" class="soft">in the table</span>
            <ElButton v-else size="small" :aria-label="`Take ${s.rule.set}`" @click="add(s as Suggestion)">{{
              s.now ? `Replace rule ${s.now}` : "Take it"
            }}</ElButton>
          </template>
        </ElTableColumn>
      </ElTable>
      <p v-else>There is nothing to add: what the sample holds is mapped already, or not known by any standard name.</p>
      <p v-if="rest().length > 1">
        <ElButton
          @click="
            rest()
              .filter((s) => !s.now)
              .forEach(add)
          "
          >Take all that is new</ElButton
        >
      </p>
      <p v-if="found.left.length" class="soft">
        Not used: <span class="mono">{{ found.left.join(", ") }}</span>
      </p>
    </template>
  </section>
</template>

<style scoped>
.propose {
  margin-top: 16px;
  border-top: 1px solid var(--rule);
  padding-top: 14px;
}
</style>
