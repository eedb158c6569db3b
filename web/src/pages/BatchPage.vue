<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, reactive } from "vue";
import { useRoute } from "vue-router";
import { http, ok, type BatchRow, type BatchValues } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useAct, useLoad, useTicker } from "../composables/load";

const route = useRoute();
const id = computed(() => String(route.params.id));
const path = () => ({ path: { id: id.value } });
const { data: batch, error, again } = useLoad(() => ok(http.GET("/batches/{id}", { params: path() })), [id]);
useTicker(600, () => {
  if (batch.value?.looking) void again();
});
const { error: failed, busy, act } = useAct();
const words: Record<string, { text: string; state: string }> = {
  ready: { text: "ready", state: "sound" },
  value: { text: "needs a value", state: "attention" },
  decision: { text: "needs a decision", state: "attention" },
  no: { text: "can't be", state: "broken" },
  made: { text: "made", state: "sound" },
  new: { text: "being looked at", state: "" },
};
// What is entered is sent for a row when its field is left.
const drafts = reactive<Record<number, BatchValues>>({});
const draft = (r: BatchRow) => (drafts[r.number] ??= { ...r.values });
const send = (r: BatchRow, change: Partial<BatchValues> = {}, skip = r.skip) =>
  act(async () => {
    const values = { ...draft(r), ...change };
    drafts[r.number] = values;
    batch.value = await ok(
      http.PUT("/batches/{id}", { params: path(), body: { rows: [{ number: r.number, values, skip }] } }),
    );
  });
const make = () => act(async () => void (batch.value = await ok(http.POST("/batches/{id}/make", { params: path() }))));
const signInWith = (r: BatchRow, slug: string) => send(r, { providers: slug ? [slug] : undefined });
const candidates = (r: BatchRow) => (r.state === "decision" ? r.notes.filter((n) => /^\S+:\S+$/.test(n)) : []);
const editable = (r: BatchRow) => ["ready", "value", "decision"].includes(r.state) && !r.skip;
</script>

<template>
  <EstateNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="batch">
    <div class="head">
      <div>
        <h1>Many at once, from {{ batch.from }}</h1>
        <p class="sub" role="status">
          <template v-if="batch.looking">Being looked at … </template>{{ batch.rows.length }} in all:
          <template v-for="(w, s, i) in words" :key="s"
            ><template v-if="batch.counts[s]"
              >{{ i ? " · " : "" }}{{ batch.counts[s] }} {{ w.text }}</template
            ></template
          >
        </p>
      </div>
      <ElButton type="primary" :loading="busy" :disabled="!batch.counts.ready || batch.looking" @click="make"
        >Make drafts of what is ready</ElButton
      >
    </div>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
    <ElTable
      table-layout="auto"
      :data="batch.rows"
      :row-class-name="({ row }) => (row.skip ? 'out' : '')"
      row-key="number"
    >
      <ElTableColumn label="From">
        <template #default="{ row: r }">
          <span class="small"
            >{{ r.label }}<br /><span class="mono soft">{{ r.url }}</span></span
          >
        </template>
      </ElTableColumn>
      <ElTableColumn label="State">
        <template #default="{ row: r }">
          <span class="tag" :class="r.skip ? '' : words[r.state]?.state">{{
            r.skip ? "left out" : words[r.state]?.text
          }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Name and short name">
        <template #default="{ row: r }">
          <template v-if="editable(r as BatchRow)">
            <ElInput
              v-model="draft(r as BatchRow).name"
              :placeholder="r.name"
              :aria-label="`Name of row ${r.number}`"
              @change="send(r as BatchRow)"
            />
            <ElInput
              v-model="draft(r as BatchRow).slug"
              class="mono"
              :placeholder="r.slug"
              :aria-label="`Short name of row ${r.number}`"
              @change="send(r as BatchRow)"
            />
            <ElSelect
              v-if="candidates(r as BatchRow).length"
              :aria-label="`Entity of row ${r.number}`"
              @change="send(r as BatchRow, { entityId: $event })"
            >
              <ElOption value="" label="choose an entity" />
              <ElOption v-for="c in candidates(r as BatchRow)" :key="c" :value="c" :label="c" />
            </ElSelect>
          </template>
          <RouterLink
            v-else-if="r.state === 'made'"
            :to="batch.side === 'application' ? `/applications/${r.slug}/connect` : `/providers/${r.slug}`"
            >{{ r.name }}</RouterLink><template v-else>{{ r.name || "–" }}</template>
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="batch.side === 'application'" label="Start address, and sign-in with">
        <template #default="{ row: r }">
          <div>
            <span v-if="!editable(r as BatchRow)">{{ (r.providers ?? []).join(", ") }}</span>
            <template v-else>
              <ElInput
                v-model="draft(r as BatchRow).startUrl"
                class="mono"
                :placeholder="r.startUrl || 'https://…'"
                :aria-label="`Start address of row ${r.number}`"
                @change="send(r as BatchRow)"
              />
              <ObjectPick
                of="providers"
                :label="`Provider of row ${r.number}`"
                :none="r.providers?.length ? r.providers.join(', ') : 'choose a provider'"
                :model-value="draft(r as BatchRow).providers?.[0] ?? ''"
                @update:model-value="signInWith(r as BatchRow, String($event ?? ''))"
              />
            </template>
          </div>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Remarks">
        <template #default="{ row: r }">
          <div class="small">
            <p v-for="n in r.notes" :key="n">{{ n }}</p>
          </div>
        </template>
      </ElTableColumn>
      <ElTableColumn>
        <template #default="{ row: r }">
          <ElButton
            v-if="!['made', 'no', 'new'].includes(r.state)"
            link
            type="primary"
            class="small"
            @click="send(r as BatchRow, {}, !r.skip)"
            >{{ r.skip ? "take in" : "leave out" }}</ElButton
          >
        </template>
      </ElTableColumn>
    </ElTable>
  </template>
</template>

<style scoped>
.mono {
  font-family: var(--mono);
  font-size: 13px;
}
.link {
  background: none;
  border: 0;
  padding: 0;
  color: var(--sea);
  font: inherit;
  cursor: pointer;
  text-decoration: underline;
  white-space: nowrap;
}
</style>
