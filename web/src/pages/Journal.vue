<script setup lang="ts">
import { ref } from "vue";
import { http, ok } from "../api/client";
import ChangesNav from "../components/ChangesNav.vue";
import ListPage from "../components/ListPage.vue";
import TimeText from "../components/TimeText.vue";
import { useSession } from "../composables/session";

const session = useSession();
const verdict = ref<{ whole: boolean; lines: number; broken?: string } | null>(null);
const verify = async () => void (verdict.value = await ok(http.GET("/journal/verify", { params: { query: {} } })));
const load = (query: Record<string, string>) => ok(http.GET("/journal", { params: { query } }));

/** The fields that differ between two configurations. */
function changed(before?: string, after?: string): string[] {
  try {
    const a = JSON.parse(before || "{}") as Record<string, unknown>;
    const b = JSON.parse(after || "{}") as Record<string, unknown>;
    const out: string[] = [];
    const walk = (x: unknown, y: unknown, at: string) => {
      if (JSON.stringify(x) === JSON.stringify(y)) return;
      if (x && y && typeof x === "object" && typeof y === "object" && !Array.isArray(x) && !Array.isArray(y)) {
        for (const k of new Set([...Object.keys(x), ...Object.keys(y)]))
          walk((x as Record<string, unknown>)[k], (y as Record<string, unknown>)[k], at ? `${at}.${k}` : k);
      } else out.push(at);
    };
    walk(a, b, "");
    return out;
  } catch {
    return [];
  }
}
</script>

<template>
  <h1>Journal</h1>
  <p class="sub">Who changed what, when, from where. It is append-only, and each line vouches for the one before.</p>
  <ChangesNav />
  <p class="row">
    <ElButton @click="verify">Verify the chain</ElButton>
    <span v-if="verdict" role="status"
      ><span class="tag" :class="verdict.whole ? 'sound' : 'broken'">{{ verdict.whole ? "whole" : "broken" }}</span>
      {{ verdict.whole ? `${verdict.lines.toLocaleString()} lines fit one after the other.` : verdict.broken }}</span
    ><a v-if="session.owner" href="/api/v1/journal/export?from=0" download="journal.jsonl">Export</a>
  </p>
  <ListPage :load="load" search="Who, what or which">
    <template #default="{ items }">
      <ElTable table-layout="auto" :data="items" row-key="number">
        <ElTableColumn label="No.">
          <template #default="{ row: e }">{{ e.number }}</template>
        </ElTableColumn>
        <ElTableColumn label="When">
          <template #default="{ row: e }">
            <TimeText :at="e.at" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Who">
          <template #default="{ row: e }">{{ e.who }}</template>
        </ElTableColumn>
        <ElTableColumn label="From">
          <template #default="{ row: e }">
            <span class="mono">{{ e.from || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="What">
          <template #default="{ row: e }">{{ e.action }} {{ e.kind }}</template>
        </ElTableColumn>
        <ElTableColumn label="Which">
          <template #default="{ row: e }">{{ e.object }}</template>
        </ElTableColumn>
        <ElTableColumn label="Fields">
          <template #default="{ row: e }">
            <span class="small mono">{{ e.action === "changed" ? changed(e.before, e.after).join(", ") : "" }}</span>
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <template #empty>
      <p>Nothing was changed yet.</p>
    </template>
  </ListPage>
</template>

<style scoped>
.verify {
  font: inherit;
  padding: 5px 12px;
  border: 1px solid var(--sea);
  border-radius: 4px;
  background: none;
  color: var(--sea);
  cursor: pointer;
}
</style>
