<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import type { Rule } from "../api/client";
import { useAct } from "../composables/load";
import { parseStep, stepText } from "../composables/text";

const props = defineProps<{ mapping: Rule[]; direction: "in" | "out"; readonly?: boolean; save: (rules: Rule[]) => Promise<void> }>();
type Row = { set: string; from: string; value: string; steps: string; required: boolean; rest: Rule };
const rows = ref<Row[]>([]);
const dirty = ref(false);
const { error, busy, act } = useAct();

function read() {
  rows.value = props.mapping.map((r) => ({ set: r.set, from: ([] as string[]).concat((r.from as string | string[] | undefined) ?? []).join(", "), value: r.value ?? "", steps: (r.steps ?? []).map(stepText).join(" | "), required: !!r.required, rest: r }));
  dirty.value = false;
}
watch(() => JSON.stringify(props.mapping), read, { immediate: true });

/** Steps that were not touched keep their full form; a table inside a step can't be written in one line. */
function steps(row: Row): unknown[] {
  const held = row.rest.steps ?? [];
  const texts = held.map(stepText);
  return row.steps.split("|").map((s) => s.trim()).filter(Boolean).map((s) => {
    const i = texts.indexOf(s);
    return i >= 0 ? held[i] : parseStep(s);
  });
}

function write(): Rule[] {
  return rows.value.map((row) => {
    const from = row.from.split(",").map((s) => s.trim()).filter(Boolean);
    const out: Record<string, unknown> = { ...row.rest, set: row.set.trim(), from: from.length ? (from.length === 1 ? from[0] : from) : undefined, value: row.value || undefined, steps: steps(row), required: row.required || undefined };
    if (!(out.steps as unknown[]).length) delete out.steps;
    return JSON.parse(JSON.stringify(out)) as Rule;
  });
}

function move(i: number, by: number) {
  const [row] = rows.value.splice(i, 1);
  rows.value.splice(i + by, 0, row!);
  dirty.value = true;
}

async function store() {
  if (await act(() => props.save(write()))) dirty.value = false;
}
</script>

<template>
  <div>
    <p class="soft">{{ direction === "in" ? "What the provider sends becomes the person's profile. The first name that is present is taken." : "What the application receives, made from the person's profile." }}</p>
    <table class="list">
      <thead><tr><th scope="col">{{ direction === "in" ? "Sets" : "Attribute" }}</th><th scope="col">{{ direction === "in" ? "From what came" : "From the profile" }}</th><th scope="col">Steps</th><th scope="col">Must be there</th><th v-if="!readonly" scope="col"><span class="visually-hidden">Order</span></th></tr></thead>
      <tbody>
        <tr v-for="(row, i) in rows" :key="i">
          <template v-if="readonly">
            <td class="mono">{{ row.set }}<span v-if="row.rest.friendlyName" class="soft"><br />{{ row.rest.friendlyName }}</span></td><td class="mono">{{ row.value ? `always ${row.value}` : row.from }}</td>
            <td><span v-for="s in row.rest.steps ?? []" :key="stepText(s)" class="step">{{ stepText(s) }}</span></td><td>{{ row.required ? "yes" : "" }}</td>
          </template>
          <template v-else>
            <td><input v-model="row.set" class="mono" :aria-label="`Name of rule ${i + 1}`" @input="dirty = true" /><span v-if="row.rest.friendlyName" class="soft small">{{ row.rest.friendlyName }}</span></td>
            <td><textarea v-model="row.from" rows="1" class="mono" :aria-label="`Sources of rule ${i + 1}`" placeholder="names, separated by commas" @input="dirty = true"></textarea></td>
            <td><textarea v-model="row.steps" rows="1" class="mono" :aria-label="`Steps of rule ${i + 1}`" placeholder="lower | keep ^ferry-" @input="dirty = true"></textarea></td>
            <td><input v-model="row.required" type="checkbox" :aria-label="`Rule ${i + 1} must have a value`" @change="dirty = true" /></td>
            <td class="order"><button type="button" :disabled="i === 0" :aria-label="`Move rule ${i + 1} up`" @click="move(i, -1)">↑</button><button type="button" :disabled="i === rows.length - 1" :aria-label="`Move rule ${i + 1} down`" @click="move(i, 1)">↓</button><button type="button" :aria-label="`Take rule ${i + 1} away`" @click="rows.splice(i, 1); dirty = true">✕</button></td>
          </template>
        </tr>
        <tr v-if="!rows.length"><td colspan="5" class="soft">There is no rule yet.</td></tr>
      </tbody>
    </table>
    <div v-if="!readonly" class="row acts">
      <ElButton @click="rows.push({ set: '', from: '', value: '', steps: '', required: false, rest: { set: '' } }); dirty = true">Add a rule</ElButton>
      <ElButton type="primary" :disabled="!dirty" :loading="busy" @click="store">Save the mapping</ElButton>
      <span v-if="dirty" class="soft">Not saved yet. A change acts at once when it is saved.</span>
    </div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </div>
</template>

<style scoped>
input:not([type]), textarea { width: 100%; min-width: 7rem; field-sizing: content; resize: none; overflow-wrap: anywhere; line-height: 1.4; padding: 4px 8px; border: 1px solid var(--rule); border-radius: 3px; background: var(--paper); color: var(--ink); }
td:nth-child(2) textarea { min-width: 12.5rem; }
.step { display: inline-block; background: var(--sea-tint); color: var(--ink); border-radius: 3px; padding: 0 7px; margin: 0 4px 2px 0; font-size: 13px; }
.order { white-space: nowrap; }
.order button { background: none; border: 1px solid var(--rule); border-radius: 3px; color: var(--ink); min-width: 26px; min-height: 26px; cursor: pointer; margin-right: 2px; }
.order button:disabled { opacity: 0.4; }
.acts { margin-top: 12px; }
</style>
