<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { http, ok } from "../api/client";
import ChangesNav from "../components/ChangesNav.vue";
import FieldChanges from "../components/FieldChanges.vue";
import RehearsePanel from "../components/RehearsePanel.vue";
import TimeText from "../components/TimeText.vue";
import { fromInput, stateWords } from "../composables/changes";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const route = useRoute();
const id = computed(() => String(route.params.id));
const path = () => ({ path: { id: id.value } });
const { data: proposal, error } = useLoad(() => ok(http.GET("/proposals/{id}", { params: path() })), [id]);
const { data: application } = useLoad(
  async () =>
    proposal.value?.kind === "application"
      ? ok(http.GET("/applications/{slug}", { params: { path: { slug: proposal.value.slug } } }))
      : null,
  [() => proposal.value?.slug],
);
const { error: failed, busy, act } = useAct();
const from = ref("");
const until = ref("");
const note = ref("");
const waits = computed(() => ["open", "approved"].includes(proposal.value?.state ?? ""));
const own = computed(() => proposal.value?.by === session.me?.name);
const approve = () =>
  act(async () => void (proposal.value = await ok(http.POST("/proposals/{id}/approve", { params: path() }))));
const apply = (planned: boolean) =>
  act(
    async () =>
      void (proposal.value = await ok(
        http.POST("/proposals/{id}/apply", {
          params: path(),
          body: planned ? { from: fromInput(from.value), until: fromInput(until.value) } : {},
        }),
      )),
  );
const withdraw = () =>
  act(
    async () =>
      void (proposal.value = await ok(
        http.POST("/proposals/{id}/withdraw", { params: path(), body: { note: note.value.trim() || undefined } }),
      )),
  );
</script>

<template>
  <ChangesNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="proposal">
    <div class="head">
      <div>
        <h1>{{ proposal.name }}: a proposed change</h1>
        <p class="sub">
          By {{ proposal.by }}, <TimeText :at="proposal.created" /><template v-if="proposal.approvedBy">
            · approved by {{ proposal.approvedBy }}</template
          ><template v-if="proposal.decidedBy && !waits"> · decided by {{ proposal.decidedBy }}</template> ·
          <RouterLink :to="`/${proposal.kind}s/${proposal.slug}`">its page</RouterLink>
        </p>
      </div>
      <span class="tag" :class="stateWords[proposal.state]?.state">{{
        stateWords[proposal.state]?.text ?? proposal.state
      }}</span>
    </div>
    <p v-if="proposal.remark" class="remark">{{ proposal.remark }}</p>
    <p v-if="proposal.note" class="remark">{{ proposal.note }}</p>
    <div class="cols">
      <section class="panel">
        <h2>What it changes</h2>
        <FieldChanges v-if="proposal.changes.length || !proposal.secret" :changes="proposal.changes" />
        <p v-if="proposal.secret">
          <b>A client secret came with it.</b> It is sealed; nobody sees it. It counts from when the change is made, in
          place of the one that counts now.
        </p>
        <template v-if="proposal.meanwhile"
          ><h2>Changed meanwhile, by {{ proposal.meanwhile.by }}</h2>
          <FieldChanges :changes="proposal.meanwhile.theirs" />
          <p v-if="proposal.meanwhile.both.length" class="error">
            Both changed {{ proposal.meanwhile.both.join(", ") }}. Look at both, and propose what shall hold.
          </p>
          <p v-else class="soft">These are other fields: both changes fit together.</p></template
        >
        <template v-if="proposal.effects.length"
          ><h2>What people will notice</h2>
          <p v-for="e in proposal.effects" :key="e">
            <b>{{ e }}</b>
          </p></template
        >
        <p v-if="proposal.broken" class="error">It can't be made as things are now: {{ proposal.broken }}</p>
      </section>
      <div v-if="waits && session.engineer" class="stack">
        <section class="panel">
          <h2>Decide</h2>
          <p v-if="proposal.needsSecond && !proposal.approvedBy" class="soft">
            A second person has to approve it first<template v-if="own">; you proposed it yourself</template>.
          </p>
          <div class="stack">
            <div class="row">
              <ElButton v-if="!proposal.approvedBy && !own" :loading="busy" @click="approve">Approve</ElButton>
              <ElButton
                type="primary"
                :loading="busy"
                :disabled="proposal.needsSecond && !proposal.approvedBy"
                @click="apply(false)"
                >Make the change now</ElButton
              >
            </div>
            <details>
              <summary>In a window</summary>
              <ElFormItem label="From">
                <ElDatePicker
                  v-model="from"
                  type="datetime"
                  format="YYYY-MM-DD HH:mm"
                  value-format="YYYY-MM-DDTHH:mm"
                />
              </ElFormItem>
              <ElFormItem label="Until">
                <ElDatePicker
                  v-model="until"
                  type="datetime"
                  format="YYYY-MM-DD HH:mm"
                  value-format="YYYY-MM-DDTHH:mm"
                />
                <small>An hour later, unless it is said.</small>
              </ElFormItem>
              <ElButton
                :loading="busy"
                :disabled="!from || (proposal.needsSecond && !proposal.approvedBy)"
                @click="apply(true)"
                >Plan it</ElButton
              >
            </details>
            <p v-if="proposal.from" class="small">
              It is made by itself from <TimeText :at="proposal.from" /> until <TimeText :at="proposal.until" />.
            </p>
            <details>
              <summary>Withdraw</summary>
              <ElFormItem label="Why">
                <ElInput v-model="note" autocomplete="off" />
              </ElFormItem>
              <ElButton type="danger" :loading="busy" @click="withdraw">Withdraw</ElButton>
            </details>
          </div>
          <p v-if="failed" class="error" role="alert">{{ failed }}</p>
        </section>
        <section v-if="application" class="panel">
          <h2>Rehearse it</h2>
          <p class="soft small">In the rehearsal the proposed change holds, and nowhere else.</p>
          <RehearsePanel :application="application" :proposal="proposal.id" />
        </section>
      </div>
    </div>
  </template>
</template>

<style scoped>
.remark {
  border-left: 4px solid var(--brass-line);
  padding: 4px 14px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
}
h2 + .soft {
  margin-top: 0;
}
.panel h2:not(:first-child) {
  margin-top: 20px;
}
</style>
