<script setup lang="ts">
import { ElButton, ElOption, ElSelect } from "element-plus";
import { computed, ref, watch } from "vue";
import { http, ok, type Preview, type Rule } from "../api/client";
import { useAct, useLoad } from "../composables/load";
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
function addStep(row: Row, event: Event) {
  const select = event.target as HTMLSelectElement;
  row.steps = [row.steps.trim(), select.value].filter(Boolean).join(" | ");
  select.value = "";
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
    <table class="list">
      <thead>
        <tr>
          <th scope="col">{{ direction === "in" ? "Sets" : "Attribute" }}</th>
          <th scope="col">{{ direction === "in" ? "From what came" : "From the profile" }}</th>
          <th scope="col">Steps</th>
          <th v-if="openid" scope="col">Place</th>
          <th scope="col">Must</th>
          <th v-if="!readonly" scope="col"><span class="visually-hidden">Order</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, i) in rows" :key="i">
          <template v-if="readonly">
            <td class="mono">
              {{ row.kind === "use" ? "rule set" : row.set
              }}<span v-if="row.rest.friendlyName" class="soft"><br />{{ row.rest.friendlyName }}</span>
            </td>
            <td class="mono">{{ kindOf(row.rest) === "from" ? row.source : `${wordsOf[row.kind]} ${row.source}` }}</td>
            <td>
              <span v-for="s in row.rest.steps ?? []" :key="stepText(s)" class="step">{{ stepText(s) }}</span>
            </td>
            <td v-if="openid">{{ row.place || "as usual" }}</td>
            <td>{{ row.required ? "yes" : "" }}</td>
          </template>
          <template v-else>
            <td>
              <input
                v-if="row.kind !== 'use'"
                v-model="row.set"
                class="mono"
                :aria-label="`Name of rule ${i + 1}`"
                @input="dirty = true"
              /><span v-if="row.rest.friendlyName" class="soft small">{{ row.rest.friendlyName }}</span>
            </td>
            <td>
              <div class="source">
                <select v-model="row.kind" :aria-label="`Where rule ${i + 1} takes its values`" @change="dirty = true">
                  <option value="from">from</option>
                  <option value="value">always</option>
                  <option value="expr">computed</option>
                  <option value="use">rule set</option>
                </select>
                <select
                  v-if="row.kind === 'use'"
                  v-model="row.source"
                  :aria-label="`Rule set of rule ${i + 1}`"
                  @change="dirty = true"
                >
                  <option v-for="s in mappings" :key="s.slug" :value="s.slug">{{ s.name }}</option>
                </select>
                <textarea
                  v-else
                  v-model="row.source"
                  rows="1"
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
                ></textarea>
              </div>
            </td>
            <td>
              <div v-if="row.kind !== 'use'" class="source">
                <textarea
                  v-model="row.steps"
                  rows="1"
                  class="mono"
                  :aria-label="`Steps of rule ${i + 1}`"
                  placeholder="lower | keep ^ferry-"
                  @input="dirty = true"
                ></textarea
                ><select class="add" :aria-label="`Add a step to rule ${i + 1}`" @change="addStep(row, $event)">
                  <option value="">+</option>
                  <option v-for="[v, t] in stepMenu" :key="v" :value="v">{{ t }}</option>
                </select>
              </div>
            </td>
            <td v-if="openid">
              <select
                v-if="row.kind !== 'use'"
                v-model="row.place"
                :aria-label="`Place of rule ${i + 1}`"
                @change="dirty = true"
              >
                <option value="">as usual</option>
                <option value="id_token">ID token</option>
                <option value="userinfo">UserInfo</option>
                <option value="both">both</option>
              </select>
            </td>
            <td>
              <input
                v-if="row.kind !== 'use'"
                v-model="row.required"
                type="checkbox"
                :aria-label="`Rule ${i + 1} must have a value`"
                @change="dirty = true"
              />
            </td>
            <td class="order">
              <button type="button" :disabled="i === 0" :aria-label="`Move rule ${i + 1} up`" @click="move(i, -1)">
                ↑</button
              ><button
                type="button"
                :disabled="i === rows.length - 1"
                :aria-label="`Move rule ${i + 1} down`"
                @click="move(i, 1)"
              >
                ↓</button
              ><button
                type="button"
                :aria-label="`Take rule ${i + 1} away`"
                @click="
                  rows.splice(i, 1);
                  dirty = true;
                "
              >
                ✕
              </button>
            </td>
          </template>
        </tr>
        <tr v-if="!rows.length">
          <td colspan="6" class="soft">There is no rule yet.</td>
        </tr>
      </tbody>
    </table>
    <div v-if="!readonly" class="row acts">
      <ElButton @click="addRule()">Add a rule</ElButton>
      <ElSelect
        v-if="direction === 'out' && !openid"
        v-model="family"
        class="family"
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
    <RuleProposal v-if="open === 'propose'" :direction="direction" :mapping="current" :sample="sample" @add="addRule" />
    <PreviewPanel
      v-if="open === 'preview' && preview"
      :ask="() => preview!(current())"
      :trace="sample"
      :direction="direction"
    />
  </div>
</template>

<style scoped>
input:not([type]),
textarea {
  width: 100%;
  min-width: 6rem;
  field-sizing: content;
  resize: none;
  overflow-wrap: anywhere;
  line-height: 1.4;
  padding: 4px 8px;
  border: 1px solid var(--rule);
  border-radius: 3px;
  background: var(--paper);
  color: var(--ink);
}
select {
  font: inherit;
  font-size: 13.5px;
  padding: 4px 2px;
  border: 1px solid var(--rule);
  border-radius: 3px;
  background: var(--card);
  color: var(--ink);
  min-height: 31px;
}
.source {
  display: flex;
  gap: 4px;
  align-items: flex-start;
}
.source textarea {
  min-width: 8rem;
}
.source .add {
  width: 2.4rem;
  flex: none;
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
.order button {
  background: none;
  border: 1px solid var(--rule);
  border-radius: 3px;
  color: var(--ink);
  min-width: 26px;
  min-height: 26px;
  cursor: pointer;
  margin-right: 2px;
}
.order button:disabled {
  opacity: 0.4;
}
.family {
  width: 17rem;
}
.acts {
  margin-top: 12px;
}
</style>
