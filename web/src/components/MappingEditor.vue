<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Preview, type Rule } from "../api/client";
import { useRows } from "../composables/edits";
import { useLoad } from "../composables/load";
import { madeBy, readRows, writeRows } from "../composables/mapping";
import { usePreview } from "../composables/preview";
import MappingRows from "./MappingRows.vue";
import MappingTable from "./MappingTable.vue";
import PreviewChoice from "./PreviewChoice.vue";
import PreviewResult from "./PreviewResult.vue";
import RuleProposal from "./RuleProposal.vue";

const props = defineProps<{
  direction: "in" | "out";
  readonly?: boolean;
  openid?: boolean;
  sample?: string;
  preview?: () => Preview;
  /** The names that rules may set, where they are no attributes of sign-in but paths in an account. */
  settable?: string[];
  problemAt?: (path: string) => string;
}>();
const mapping = defineModel<Rule[]>({ required: true });
const rows = useRows(
  () => mapping.value,
  () => readRows(mapping.value),
  (now) => (mapping.value = writeRows(now)),
);
const open = ref<"" | "propose" | "whole">("");
const { data: sets } = useLoad(() => ok(http.GET("/rule-sets")));
const { data: known } = useLoad(() => ok(http.GET("/people-settings")));
const mappings = computed(() => (sets.value?.items ?? []).filter((s) => s.kind === "mapping"));

const preview = usePreview({
  ask: () => props.preview!(),
  draft: () => mapping.value,
  trace: () => (props.preview ? props.sample : undefined),
});
const got = computed(() => (preview.by.value === "none" ? null : preview.got.value));
const made = computed(() =>
  madeBy(rows.value, got.value, props.direction).map((m, i) => {
    const refused = props.problemAt?.(`mapping[${i}]`);
    return refused ? { values: m?.values ?? [], problem: refused } : m;
  }),
);

// Names to complete: what really came or is held of the person first, then what the standards know.
const claims = computed(() => (known.value?.names ?? []).map((n) => n.claim));
const standards = computed(() =>
  (known.value?.names ?? []).flatMap((n) =>
    [n.basic, n.claim, n.uri, n.oid && `urn:oid:${n.oid}`, ...(n.also ?? [])].filter((t): t is string => !!t),
  ),
);
const unique = (list: string[]) => [...new Set(list)];
const sources = () =>
  props.direction === "in"
    ? unique([...Object.keys(got.value?.input ?? {}), ...standards.value])
    : unique([...Object.keys(got.value?.profile ?? {}), ...claims.value]);
const targets = () => props.settable ?? unique(props.direction === "in" ? claims.value : standards.value);

const family = ref("");
/** Puts the usual attributes under a family of names in place of what is there. */
function takeFamily(name: string) {
  const taken = known.value?.families.find((f) => f.name === name);
  if (taken) rows.value = readRows(taken.mapping);
}
function addRule(rule?: Rule, instead?: number) {
  const row = readRows([rule ?? { set: "" }])[0]!;
  if (instead) rows.value.splice(instead - 1, 1, row);
  else rows.value.push(row);
}
</script>

<template>
  <div>
    <p class="soft">
      {{
        settable
          ? "What the person's account is made of, from the person's profile."
          : direction === "in"
            ? "What the provider sends becomes the person's profile. The first name that is present is taken."
            : "What the application receives, made from the person's profile."
      }}
    </p>
    <PreviewChoice v-if="props.preview && !readonly" :preview="preview" :direction="direction" />
    <MappingTable v-if="readonly" :rows="rows" :direction="direction" :openid="openid" />
    <MappingRows
      v-else
      v-model="rows"
      :direction="direction"
      :openid="openid"
      :sets="mappings"
      :made="made"
      :sources="sources"
      :targets="targets"
    />
    <div v-if="!readonly" class="row acts">
      <ElButton @click="addRule()">Add a rule</ElButton>
      <ElSelect
        v-if="direction === 'out' && !openid && !settable"
        v-model="family"
        class="family"
        :empty-values="['', null, undefined]"
        placeholder="The usual attributes under…"
        aria-label="The usual attributes under a family of names"
        @change="takeFamily"
      >
        <ElOption v-for="f in known?.families ?? []" :key="f.name" :value="f.name" :label="f.words" />
      </ElSelect>
      <ElButton v-if="!settable" :aria-expanded="open === 'propose'" @click="open = open === 'propose' ? '' : 'propose'"
        >Propose rules</ElButton
      >
      <ElButton v-if="got" :aria-expanded="open === 'whole'" @click="open = open === 'whole' ? '' : 'whole'"
        >All that would become of it</ElButton
      >
    </div>
    <RuleProposal
      v-if="open === 'propose'"
      :direction="direction"
      :mapping="() => mapping"
      :sample="direction === 'in' ? sample : undefined"
      @add="addRule"
    />
    <PreviewResult v-if="open === 'whole' && got" :got="got" :account="!!settable" />
  </div>
</template>

<style scoped>
.family {
  width: 17rem;
}
.acts {
  margin-top: 12px;
}
</style>
