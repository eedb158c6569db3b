<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import type { Understood } from "../api/client";
import { useAct } from "../composables/load";
import { shortName } from "../composables/text";

const props = defineProps<{
  understand: (input: { text?: string; url?: string; entityId?: string }) => Promise<Understood>;
  take: (input: { text?: string; url?: string; entityId?: string }, understood: Understood) => Promise<void>;
  verb?: string;
}>();
const text = ref("");
const file = ref("");
const over = ref(false);
const got = ref<Understood | null>(null);
const entity = ref("");
const { error, busy, act } = useAct();

type Input = { text?: string; url?: string; entityId?: string };
function input(): Input {
  const trimmed = text.value.trim();
  const entityId = entity.value || undefined;
  if (/^https?:\/\/\S+$/.test(trimmed)) return { url: trimmed, entityId };
  return { text: text.value, entityId };
}

async function look() {
  got.value = null;
  if (!text.value.trim()) return;
  await act(async () => {
    got.value = await props.understand(input());
  });
}

function changed() {
  entity.value = "";
  void look();
}

async function dropped(files?: FileList | null) {
  over.value = false;
  const f = files?.[0];
  if (!f) return;
  if (f.size > 4 << 20) {
    error.value = `${f.name} has ${Math.round(f.size / 1e6)} MB; 4 MB are the most that is taken here.`;
    return;
  }
  file.value = f.name;
  text.value = await f.text();
  changed();
}

function choose(id: string) {
  entity.value = id;
  void look();
}

const usable = () => !!(got.value?.application || got.value?.provider);

async function store() {
  const understood = got.value!;
  if (await act(() => props.take(input(), understood))) got.value = null;
}

const roles: Record<string, string> = { idp: "identity provider", sp: "service provider" };
</script>

<template>
  <div class="take" :class="{ over }" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="dropped($event.dataTransfer?.files)">
    <label class="field">
      <span>Take theirs</span>
      <small>Drop a metadata file here, paste its text, or enter its address. What it is will be found out; nothing is stored yet.</small>
      <textarea v-model="text" rows="4" spellcheck="false" placeholder="https://…/metadata   or   <EntityDescriptor …>" @change="changed" @paste="$nextTick(changed)"></textarea>
    </label>
    <div class="row">
      <label class="pick"><input type="file" accept=".xml,.txt,application/xml,text/xml" @change="dropped(($event.target as HTMLInputElement).files)" />Choose a file</label>
      <span v-if="file" class="soft">{{ file }}</span>
      <ElButton :loading="busy" @click="changed">Understand it</ElButton>
    </div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <div v-if="got" class="got" aria-live="polite">
      <ul v-if="got.problems.length" class="problems">
        <li v-for="p in got.problems" :key="p.code + p.message"><b class="mono">{{ p.code }}</b> {{ p.message }}</li>
      </ul>
      <p v-if="got.remark">{{ got.remark }}</p>
      <ul v-if="!got.chosen && got.entities.length > 1" class="entities">
        <li v-for="e in got.entities" :key="e.entityId"><button type="button" :disabled="!e.usable" @click="choose(e.entityId)"><b>{{ e.displayName || e.entityId }}</b><span class="mono">{{ e.entityId }}</span><span class="soft">{{ e.roles.map((r) => roles[r]).join(", ") }}</span></button></li>
      </ul>
      <template v-if="usable()">
        <h3>This was understood</h3>
        <table class="list">
          <thead><tr><th scope="col">Field</th><th scope="col">Held now</th><th scope="col">Theirs</th></tr></thead>
          <tbody>
            <tr v-for="c in got.changes ?? []" :key="c.field + c.after + c.before"><td>{{ c.field }}<span v-if="c.field === 'start address' && got.proposed?.startUrl" class="tag attention">proposed</span></td><td class="mono">{{ shortName(c.before) || "–" }}</td><td class="mono">{{ shortName(c.after) || "taken away" }}</td></tr>
            <tr v-if="!got.changes?.length"><td colspan="3">All this is held already.</td></tr>
          </tbody>
        </table>
        <p v-if="got.proposed?.startUrl" class="soft">The metadata does not say where people begin in the application. This address is a guess; correct it below.</p>
        <ElButton type="primary" :loading="busy" @click="store">{{ verb ?? "Take it" }}</ElButton>
      </template>
    </div>
  </div>
</template>

<style scoped>
.take { border: 1px dashed var(--el-border-color); border-radius: 4px; padding: 16px 18px; background: var(--card); }
.take.over { border-color: var(--sea); background: var(--sea-tint); }
textarea { width: 100%; font-family: var(--mono); font-size: 13.5px; padding: 8px 12px; border: 1px solid var(--el-border-color); border-radius: 4px; background: var(--paper); color: var(--ink); resize: vertical; }
.pick { color: var(--sea); border: 1px solid var(--sea); border-radius: 4px; padding: 4px 14px; cursor: pointer; font-size: 14px; }
.pick input { position: absolute; opacity: 0; width: 1px; height: 1px; }
.pick:focus-within { outline: 2px solid var(--brass-line); outline-offset: 2px; }
.got { margin-top: 14px; }
.problems { padding-left: 18px; }
.entities { list-style: none; padding: 0; }
.entities button { display: grid; text-align: left; width: 100%; gap: 2px; padding: 8px 12px; background: none; border: 1px solid var(--rule); border-radius: 4px; margin-bottom: 6px; cursor: pointer; color: inherit; }
.entities button:disabled { opacity: 0.55; cursor: not-allowed; }
h3 { margin-top: 8px; }
.tag { margin-left: 8px; }
.got .el-button { margin-top: 10px; }
</style>
