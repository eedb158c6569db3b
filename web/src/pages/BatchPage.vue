<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, reactive } from "vue";
import { useRoute } from "vue-router";
import { http, ok, type BatchRow, type BatchValues } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import { useAct, useLoad, useTicker } from "../composables/load";

const route = useRoute();
const id = computed(() => String(route.params.id));
const path = () => ({ path: { id: id.value } });
const { data: batch, error, again } = useLoad(() => ok(http.GET("/batches/{id}", { params: path() })), [id]);
const { data: providers } = useLoad(() => ok(http.GET("/providers", { params: { query: { limit: 200 } } })));
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
    <table class="list">
      <thead>
        <tr>
          <th scope="col">From</th>
          <th scope="col">State</th>
          <th scope="col">Name and short name</th>
          <th v-if="batch.side === 'application'" scope="col">Start address, and sign-in with</th>
          <th scope="col">Remarks</th>
          <th scope="col"><span class="visually-hidden">Leave out</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in batch.rows" :key="r.number" :class="{ out: r.skip }">
          <td class="small">
            {{ r.label }}<br /><span class="mono soft">{{ r.url }}</span>
          </td>
          <td>
            <span class="tag" :class="r.skip ? '' : words[r.state]?.state">{{
              r.skip ? "left out" : words[r.state]?.text
            }}</span>
          </td>
          <td>
            <template v-if="editable(r)"
              ><input
                v-model="draft(r).name"
                :placeholder="r.name"
                :aria-label="`Name of row ${r.number}`"
                @change="send(r)"
              /><input
                v-model="draft(r).slug"
                class="mono"
                :placeholder="r.slug"
                :aria-label="`Short name of row ${r.number}`"
                @change="send(r)"
              /><select
                v-if="candidates(r).length"
                :aria-label="`Entity of row ${r.number}`"
                @change="send(r, { entityId: ($event.target as HTMLSelectElement).value })"
              >
                <option value="">choose an entity</option>
                <option v-for="c in candidates(r)" :key="c" :value="c">{{ c }}</option>
              </select></template
            >
            <RouterLink
              v-else-if="r.state === 'made'"
              :to="batch.side === 'application' ? `/applications/${r.slug}/connect` : `/providers/${r.slug}`"
              >{{ r.name }}</RouterLink><template v-else>{{ r.name || "–" }}</template>
          </td>
          <td v-if="batch.side === 'application'">
            <template v-if="editable(r)"
              ><input
                v-model="draft(r).startUrl"
                class="mono"
                :placeholder="r.startUrl || 'https://…'"
                :aria-label="`Start address of row ${r.number}`"
                @change="send(r)"
              /><select
                :value="draft(r).providers?.[0] ?? ''"
                :aria-label="`Provider of row ${r.number}`"
                @change="
                  send(r, {
                    providers: ($event.target as HTMLSelectElement).value
                      ? [($event.target as HTMLSelectElement).value]
                      : undefined,
                  })
                "
              >
                <option value="">{{ r.providers?.length ? r.providers.join(", ") : "choose a provider" }}</option>
                <option v-for="p in providers?.items ?? []" :key="p.slug" :value="p.slug">{{ p.name }}</option>
              </select></template
            ><template v-else>{{ r.providers?.join(", ") }}</template>
          </td>
          <td class="small">
            <p v-for="n in r.notes" :key="n">{{ n }}</p>
          </td>
          <td>
            <button
              v-if="!['made', 'no', 'new'].includes(r.state)"
              class="link small"
              type="button"
              @click="send(r, {}, !r.skip)"
            >
              {{ r.skip ? "take in" : "leave out" }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </template>
</template>

<style scoped>
input,
select {
  display: block;
  width: 100%;
  font: inherit;
  font-size: 14px;
  padding: 3px 8px;
  margin-bottom: 4px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
}
.mono {
  font-family: var(--mono);
  font-size: 13px;
}
.out td {
  opacity: 0.7;
}
td p {
  margin: 0 0 4px;
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
