<script setup lang="ts">
import { ref } from "vue";
import { http, ok } from "../api/client";
import ChangesNav from "../components/ChangesNav.vue";
import CheckBox from "../components/CheckBox.vue";
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
  <CheckBox
    v-if="review"
    :model-value="review.second"
    label="Changes of what serves people need a second person"
    :hint="
      session.owner ? 'One proposes, another approves. Closing something is always possible.' : 'An owner says so.'
    "
    :disabled="!session.owner"
    @update:model-value="set(!!$event)"
  />
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
      <table class="list">
        <thead>
          <tr>
            <th scope="col">Of</th>
            <th scope="col">State</th>
            <th scope="col">By</th>
            <th scope="col">When</th>
            <th scope="col">Changes</th>
            <th scope="col">Remark</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in items" :key="p.id">
            <td>
              <RouterLink :to="`/proposals/${p.id}`"
                ><b>{{ p.name }}</b></RouterLink
              ><br /><span class="soft small">{{ p.kind }}</span>
            </td>
            <td>
              <span class="tag" :class="stateWords[p.state]?.state">{{ stateWords[p.state]?.text ?? p.state }}</span
              ><br v-if="p.from" /><span v-if="p.from" class="small">for <TimeText :at="p.from" /></span>
            </td>
            <td>{{ p.by }}<span v-if="p.theirs" class="tag">other side</span></td>
            <td><TimeText :at="p.created" from /></td>
            <td class="small mono">
              {{
                p.changes
                  .slice(0, 4)
                  .map((c) => c.field)
                  .join(", ")
              }}<template v-if="p.changes.length > 4"> …</template>
            </td>
            <td class="small">{{ p.remark }}</td>
          </tr>
        </tbody>
      </table>
    </template>
    <template #empty
      ><p>
        Nothing waits. On the page of an open application or provider, changes can be proposed in place of being made.
      </p></template
    >
  </ListPage>
</template>
