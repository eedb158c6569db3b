<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import type { MetadataDocument, Watch } from "../api/client";
import { useAct } from "../composables/load";
import { partnerCalls, type Kind } from "../composables/partner";
import ChangeTable from "./ChangeTable.vue";
import CopyValue from "./CopyValue.vue";
import TimeText from "./TimeText.vue";

const props = defineProps<{ kind: Kind; slug: string; watch?: Watch; readonly?: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const { error, busy, act } = useAct();
const said = ref("");
const versions = ref<MetadataDocument[] | null>(null);
const calls = () => partnerCalls(props.kind, props.slug);
const policies: Record<string, string> = {
  ask: "every change asks",
  certificates: "certificates are taken, the rest asks",
  apply: "everything is taken at once",
};
const outcomes: Record<string, string> = {
  unchanged: "Nothing changed there.",
  applied: "Changed, and applied.",
  waiting: "Changed; it waits for your decision.",
  partly: "Certificates were taken; the rest waits for your decision.",
  failed: "It could not be read.",
};
const verdicts: Record<string, { text: string; state: string }> = {
  used: { text: "used", state: "sound" },
  waiting: { text: "waits", state: "attention" },
  dismissed: { text: "dismissed", state: "" },
  refused: { text: "refused", state: "broken" },
};

async function history() {
  versions.value = (await calls().documents()).items;
}
async function done(text: string) {
  said.value = text;
  if (versions.value) await history();
  emit("changed");
}
const refresh = () => act(async () => done(outcomes[(await calls().refresh()).outcome] ?? ""));
const use = (id: string) =>
  act(async () => {
    await calls().use(id);
    await done("It is in force from now on.");
  });
const dismiss = (id: string) =>
  act(async () => {
    await calls().dismiss(id);
    await done("Dismissed; the same content is not brought up again.");
  });
const opened = (e: Event) => (e.target as HTMLDetailsElement).open && !versions.value && act(history);
</script>

<template>
  <section class="watch" aria-label="Metadata address">
    <div v-if="watch" class="head">
      <div>
        <h3>Its metadata address</h3>
        <p v-if="!watch.url.startsWith('source:')">
          <CopyValue :value="watch.url" label="the metadata address" />
        </p>
        <p v-else>
          from the source <RouterLink :to="`/sources/${watch.url.slice(7)}`">{{ watch.url.slice(7) }}</RouterLink>
        </p>
        <p class="soft small">
          {{ policies[watch.policy]
          }}<template v-if="watch.pinned">
            · must be signed by <span class="mono">{{ watch.pinned.slice(0, 23) }}…</span></template
          >
          · looked at <TimeText :at="watch.checked" from /><template v-if="watch.due">
            · next <TimeText :at="watch.due" from /></template
          ><template v-if="watch.validUntil"> · valid until <TimeText :at="watch.validUntil" /></template>
        </p>
      </div>
      <ElButton v-if="!readonly" :loading="busy" @click="refresh">Refresh now</ElButton>
    </div>
    <p v-else class="soft">
      No metadata address is known, so nothing is refreshed. Take the metadata by its address once, or enter it among
      the options.
    </p>
    <p v-if="watch?.error" class="error" role="alert">{{ watch.error }} The last good copy goes on being used.</p>
    <p v-if="said" role="status">{{ said }}</p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <div v-if="watch?.waiting" class="waiting">
      <h3>A change waits for your decision</h3>
      <p class="soft small">Received <TimeText :at="watch.waiting.received" from />. Nothing of it is in force yet.</p>
      <ChangeTable :changes="watch.waiting.changes" />
      <div v-if="!readonly" class="row">
        <ElButton type="primary" :loading="busy" @click="use(watch.waiting.id)">Apply it</ElButton>
        <ElButton :loading="busy" @click="dismiss(watch.waiting.id)">Dismiss it</ElButton>
      </div>
    </div>
    <details @toggle="opened">
      <summary>Versions of its metadata</summary>
      <ElTable v-if="versions?.length" table-layout="auto" :data="versions" row-key="id">
        <ElTableColumn label="Received">
          <template #default="{ row: v }">
            <TimeText :at="v.received" /><br /><span class="soft small">{{ v.decidedBy ?? "" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Verdict">
          <template #default="{ row: v }">
            <span class="tag" :class="verdicts[v.verdict]?.state">{{ verdicts[v.verdict]?.text }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="What it changed">
          <template #default="{ row: v }">
            <span class="small"
              ><span v-for="s in v.sentences" :key="s">{{ s }}<br /></span>{{ v.reason
              }}<span v-if="!v.sentences.length && !v.reason" class="soft">the first that is kept</span></span
            >
          </template>
        </ElTableColumn>
        <ElTableColumn>
          <template #header>
            <span class="visually-hidden">Actions</span>
          </template>
          <template #default="{ row: v, $index: i }">
            <span class="acts"
              ><a :href="`/api/v1/${kind}/${slug}/documents/${v.id}`" target="_blank">See it</a>
              <ElButton
                v-if="!readonly && v.verdict !== 'refused' && i > 0"
                size="small"
                :loading="busy"
                @click="use(v.id)"
                >Restore</ElButton
              >
            </span>
          </template>
        </ElTableColumn>
      </ElTable>
      <p v-else class="soft">No metadata was taken yet.</p>
    </details>
  </section>
</template>

<style scoped>
.watch {
  margin: 18px 0 4px;
  border-top: 1px solid var(--rule);
  padding-top: 14px;
}
.head p {
  margin: 2px 0;
}
.waiting {
  border-left: 4px solid var(--brass-line);
  padding: 10px 16px;
  background: var(--brass-tint);
  margin: 10px 0;
}
.waiting .row {
  margin-top: 10px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
}
.acts {
  white-space: nowrap;
}
.acts .el-button {
  margin-left: 10px;
}
</style>
