<script setup lang="ts">
import { ElButton, ElOption, ElSelect } from "element-plus";
import { computed, ref, watch } from "vue";
import { http, ok, type Preview, type Rule } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import { useUnsaved } from "../composables/unsaved";
import { kindOf, readRows, stepMenu, writeRows, type Row } from "../composables/mapping";
import { stepText } from "../composables/text";
import PreviewPanel from "./PreviewPanel.vue";
import RuleProposal from "./RuleProposal.vue";

const props = defineProps<{
  mapping: Rule[];
  direction: "in" | "out";
  readonly?: boolean;
  openid?: boolean;
  sample?: string;
  preview?: (rules: Rule[]) => Preview;
  save: (rules: Rule[]) => Promise<void>;
}>();
const rows = ref<Row[]>([]);
const dirty = ref(false);
useUnsaved(() => dirty.value);
const open = ref<"" | "propose" | "preview">("");
const { error, busy, act } = useAct();
const { data: sets } = useLoad(() => ok(http.GET("/rule-sets")));
const { data: settings } = useLoad(() => ok(http.GET("/people-settings")));
const family = ref("");
/** Puts the usual attributes under a family of names in place of what is there. */
function takeFamily(name: string) {
  const taken = settings.value?.families.find((f) => f.name === name);
  if (!taken) return;
  rows.value = readRows(taken.mapping);
  dirty.value = true;
}
const mappings = computed(() => (sets.value?.items ?? []).filter((s) => s.kind === "mapping"));

function read() {
  rows.value = readRows(props.mapping);
  dirty.value = false;
}
watch(() => JSON.stringify(props.mapping), read, { immediate: true });

function current(): Rule[] {
  try {
    return writeRows(rows.value);
  } catch {
    return props.mapping;
  }
}
function move(i: number, by: number) {
  const [row] = rows.value.splice(i, 1);
  rows.value.splice(i + by, 0, row!);
  dirty.value = true;
}
function addStep(row: Row, step: string) {
  row.steps = [row.steps.trim(), step].filter(Boolean).join(" | ");
  dirty.value = true;
}
function addRule(rule?: Rule, instead?: number) {
  const row = readRows([rule ?? { set: "" }])[0]!;
  if (instead) rows.value.splice(instead - 1, 1, row);
  else rows.value.push(row);
  dirty.value = true;
}
async function store() {
  if (await act(async () => props.save(writeRows(rows.value)))) dirty.value = false;
}
const wordsOf = {
  from: props.direction === "in" ? "from" : "from",
  value: "always",
  expr: "computed",
  use: "rule set",
};
</script>

<template>
  <div>
    <p class="soft">
      {{
        direction === "in"
          ? "What the provider sends becomes the person's profile. The first name that is present is taken."
          : "What the application receives, made from the person's profile."
      }}
    </p>
    <ElTable table-layout="auto" :data="rows" empty-text="There is no rule yet." class="rules">
      <ElTableColumn :label="direction === 'in' ? 'Sets' : 'Attribute'">
        <template #default="{ row, $index: i }">
          <template v-if="readonly"
            ><span class="mono"
              >{{ row.kind === "use" ? "rule set" : row.set
              }}<span v-if="row.rest.friendlyName" class="soft"><br />{{ row.rest.friendlyName }}</span></span
            ></template
          ><template v-else>
            <ElInput
              v-if="row.kind !== 'use'"
              v-model="row.set"
              class="mono"
              :aria-label="`Name of rule ${i + 1}`"
              @input="dirty = true"
            />
            <span v-if="row.rest.friendlyName" class="soft small">{{ row.rest.friendlyName }}</span></template
          >
        </template>
      </ElTableColumn>
      <ElTableColumn :label="direction === 'in' ? 'From what came' : 'From the profile'" min-width="180">
        <template #default="{ row, $index: i }">
          <template v-if="readonly"
            ><span class="mono">{{
              kindOf(row.rest) === "from" ? row.source : `${wordsOf[row.kind]} ${row.source}`
            }}</span></template
          ><template v-else
            ><div class="source">
              <ElSelect v-model="row.kind" :aria-label="`Where rule ${i + 1} takes its values`" @change="dirty = true">
                <ElOption value="from" label="from" />
                <ElOption value="value" label="always" />
                <ElOption value="expr" label="computed" />
                <ElOption value="use" label="rule set" />
              </ElSelect>
              <ElSelect
                v-if="row.kind === 'use'"
                v-model="row.source"
                :aria-label="`Rule set of rule ${i + 1}`"
                @change="dirty = true"
              >
                <ElOption v-for="s in mappings" :key="s.slug" :value="s.slug" :label="s.name" />
              </ElSelect>
              <ElInput
                v-else
                v-model="row.source"
                type="textarea"
                :autosize="{ minRows: 1, maxRows: 5 }"
                class="mono"
                :aria-label="`Sources of rule ${i + 1}`"
                :placeholder="
                  row.kind === 'expr'
                    ? `given_name + ' ' + family_name`
                    : row.kind === 'value'
                      ? 'the value'
                      : 'names, separated by commas'
                "
                @input="dirty = true"
              /></div
          ></template>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Steps" min-width="140">
        <template #default="{ row, $index: i }">
          <template v-if="readonly"
            ><span v-for="s in row.rest.steps ?? []" :key="stepText(s)" class="step">{{ stepText(s) }}</span></template
          ><template v-else
            ><div v-if="row.kind !== 'use'" class="source">
              <ElInput
                v-model="row.steps"
                type="textarea"
                :autosize="{ minRows: 1, maxRows: 5 }"
                class="mono"
                :aria-label="`Steps of rule ${i + 1}`"
                placeholder="lower | keep ^ferry-"
                @input="dirty = true"
              />
              <ElSelect
                model-value=""
                class="add"
                :aria-label="`Add a step to rule ${i + 1}`"
                @change="addStep(row as Row, $event)"
              >
                <ElOption value="" label="+" />
                <ElOption v-for="[v, t] in stepMenu" :key="v" :value="v" :label="t" />
              </ElSelect></div
          ></template>
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="openid" label="Place" width="130">
        <template #default="{ row, $index: i }">
          <template v-if="readonly">{{ row.place || "as usual" }}</template><template v-else>
            <ElSelect
              v-if="row.kind !== 'use'"
              v-model="row.place"
              :aria-label="`Place of rule ${i + 1}`"
              @change="dirty = true"
            >
              <ElOption value="" label="as usual" />
              <ElOption value="id_token" label="ID token" />
              <ElOption value="userinfo" label="UserInfo" />
              <ElOption value="both" label="both" />
            </ElSelect>
          </template>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Must" width="64">
        <template #default="{ row, $index: i }">
          <template v-if="readonly">{{ row.required ? "yes" : "" }}</template><template v-else>
            <ElCheckbox
              v-if="row.kind !== 'use'"
              v-model="row.required"
              :aria-label="`Rule ${i + 1} must have a value`"
              @change="dirty = true"
            />
          </template>
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="!readonly" width="120">
        <template #header>
          <span class="visually-hidden">Order</span>
        </template>
        <template #default="{ $index: i }">
          <span class="order">
            <ElButton text size="small" :disabled="i === 0" :aria-label="`Move rule ${i + 1} up`" @click="move(i, -1)">
              ↑</ElButton
            >
            <ElButton
              text
              size="small"
              :disabled="i === rows.length - 1"
              :aria-label="`Move rule ${i + 1} down`"
              @click="move(i, 1)"
            >
              ↓</ElButton
            >
            <ElButton
              text
              size="small"
              :aria-label="`Take rule ${i + 1} away`"
              @click="
                rows.splice(i, 1);
                dirty = true;
              "
            >
              ✕
            </ElButton>
          </span>
        </template>
      </ElTableColumn>
    </ElTable>
    <div v-if="!readonly" class="row acts">
      <ElButton @click="addRule()">Add a rule</ElButton>
      <ElSelect
        v-if="direction === 'out' && !openid"
        v-model="family"
        class="family"
        :empty-values="['', null, undefined]"
        placeholder="The usual attributes under…"
        aria-label="The usual attributes under a family of names"
        @change="takeFamily"
      >
        <ElOption v-for="f in settings?.families ?? []" :key="f.name" :value="f.name" :label="f.words" />
      </ElSelect>
      <ElButton @click="open = open === 'propose' ? '' : 'propose'">Propose rules</ElButton>
      <ElButton v-if="preview" @click="open = open === 'preview' ? '' : 'preview'">Preview</ElButton>
      <ElButton type="primary" :disabled="!dirty" :loading="busy" @click="store">Save the mapping</ElButton>
      <span v-if="dirty" class="soft">Not saved yet. A change acts at once when it is saved.</span>
    </div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <RuleProposal
      v-if="open === 'propose'"
      :direction="direction"
      :mapping="current"
      :sample="direction === 'in' ? sample : undefined"
      @add="addRule"
    />
    <PreviewPanel
      v-if="open === 'preview' && preview"
      :ask="() => preview!(current())"
      :trace="sample"
      :direction="direction"
    />
  </div>
</template>

<style scoped>
.source {
  display: flex;
  gap: 4px;
  align-items: flex-start;
}
.source > .el-select {
  flex: none;
  width: 108px;
}
.source > .el-textarea {
  flex: 1 1 8rem;
  min-width: 7rem;
}
.source .add {
  width: 64px;
  min-width: 0;
}
.step {
  display: inline-block;
  background: var(--sea-tint);
  color: var(--ink);
  border-radius: 3px;
  padding: 0 7px;
  margin: 0 4px 2px 0;
  font-size: 13px;
}
.order {
  white-space: nowrap;
}
.order :deep(.el-button) {
  min-width: 26px;
  padding: 0 6px;
  margin-right: 2px;
}
.family {
  width: 17rem;
}
.acts {
  margin-top: 12px;
}
</style>
