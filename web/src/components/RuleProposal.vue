<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok, type Rule, type Suggested, type Suggestion } from "../api/client";
import { useAct } from "../composables/load";
import { stepText } from "../composables/text";
import TextBox from "./TextBox.vue";

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
    <form @submit.prevent="ask">
      <TextBox
        v-model="text"
        :rows="3"
        mono
        :label="direction === 'in' ? 'A sample of what comes' : 'What the application wants'"
        :hint="
          direction === 'in'
            ? 'A trace\'s number, an assertion, a token, claims as JSON, or a list of names with or without values. Nothing in it is trusted.'
            : 'The names that the application\'s documentation lists, one a line.'
        "
      />
      <ElButton native-type="submit" :loading="busy" :disabled="!text.trim()">Propose</ElButton>
    </form>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <template v-if="found">
      <p class="soft">From {{ found.source }}. Nothing is added unasked.</p>
      <table v-if="found.items.length" class="list">
        <thead>
          <tr>
            <th scope="col">Sets</th>
            <th scope="col">From</th>
            <th scope="col">Makes of the sample</th>
            <th scope="col">How sure</th>
            <th scope="col"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in found.items" :key="s.rule.set">
            <td class="mono">{{ s.rule.set }}</td>
            <td class="mono">
              {{ sources(s.rule) }}<br /><span v-for="st in s.rule.steps ?? []" :key="stepText(st)" class="soft small"
                >{{ stepText(st) }}
              </span>
            </td>
            <td>
              {{ (s.values ?? []).slice(0, 4).join(", ") || "–"
              }}<template v-if="(s.values?.length ?? 0) > 4"> and {{ s.values!.length - 4 }} more</template>
            </td>
            <td>
              <span class="tag" :class="sureWords[s.sure]?.state">{{ sureWords[s.sure]?.text ?? s.sure }}</span
              ><br /><span class="soft small">{{ s.why }}</span>
            </td>
            <td>
              <span v-if="taken.includes(s.rule.set ?? '')" class="soft">in the table</span
              ><ElButton v-else size="small" :aria-label="`Take ${s.rule.set}`" @click="add(s)">{{
                s.now ? `Replace rule ${s.now}` : "Take it"
              }}</ElButton>
            </td>
          </tr>
        </tbody>
      </table>
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
