<script setup lang="ts">
import { ref } from "vue";
import { http, ok } from "../api/client";
import ChangesNav from "../components/ChangesNav.vue";
import ListPage from "../components/ListPage.vue";
import TimeText from "../components/TimeText.vue";
import { stateWords } from "../composables/changes";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const load = (query: Record<string, string>) =>
  ok(http.GET("/proposals", { params: { query: { state: "waiting", ...query } } }));
const { data: review, again } = useLoad(() => ok(http.GET("/review")));
const { error, act } = useAct();
const turn = ref(0);
const set = (second: boolean) =>
  act(async () => {
    await ok(http.PUT("/review", { body: { second } }));
    await again();
    turn.value++;
  });
</script>

<template>
  <h1>Proposed changes</h1>
  <p class="sub">
    Changes of what is open, kept beside it until somebody decides: rehearsed before, looked at by a second person, made
    at once or in a window. What partners left through handover links waits here as well.
  </p>
  <ChangesNav />
  <ElCheckbox v-if="review" :model-value="review.second" :disabled="!session.owner" @update:model-value="set(!!$event)"
    ><b>Changes of what serves people need a second person</b
    ><small>{{
      session.owner ? "One proposes, another approves. Closing something is always possible." : "An owner says so."
    }}</small></ElCheckbox
  >
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <ListPage
    :key="turn"
    :load="load"
    search=""
    :filters="[
      {
        name: 'state',
        label: 'State',
        options: [
          ['waiting', 'waiting'],
          ['applied', 'made'],
          ['withdrawn', 'withdrawn'],
          ['missed', 'not made'],
        ],
      },
    ]"
  >
    <template #default="{ items }">
      <ElTable table-layout="auto" :data="items" row-key="id">
        <ElTableColumn label="Of">
          <template #default="{ row: p }">
            <RouterLink :to="`/proposals/${p.id}`"
              ><b>{{ p.name }}</b></RouterLink
            ><br /><span class="soft small">{{ p.kind }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="State">
          <template #default="{ row: p }">
            <span class="tag" :class="stateWords[p.state]?.state">{{ stateWords[p.state]?.text ?? p.state }}</span><br
              v-if="p.from"
            /><span v-if="p.from" class="small">for <TimeText :at="p.from" /></span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="By">
          <template #default="{ row: p }">{{ p.by }}<span v-if="p.theirs" class="tag">other side</span> </template>
        </ElTableColumn>
        <ElTableColumn label="When">
          <template #default="{ row: p }">
            <TimeText :at="p.created" from />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Changes">
          <template #default="{ row: p }">
            <span class="small mono"
              >{{
                p.changes
                  .slice(0, 4)
                  .map((c: { field: string }) => c.field)
                  .join(", ")
              }}<template v-if="p.changes.length > 4"> …</template></span
            >
          </template>
        </ElTableColumn>
        <ElTableColumn label="Remark">
          <template #default="{ row: p }">
            <span class="small">{{ p.remark }}</span>
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <template #empty>
      <p>
        Nothing waits. On the page of an open application or provider, changes can be proposed in place of being made.
      </p>
    </template>
  </ListPage>
</template>
