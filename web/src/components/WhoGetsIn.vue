<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type AccessAnswer } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import CheckBox from "./CheckBox.vue";
import PersonPick from "./PersonPick.vue";
import TextBox from "./TextBox.vue";

const props = defineProps<{ slug: string; revision: number }>();
const path = () => ({ path: { slug: props.slug } });
const {
  data,
  error: loadError,
  again,
} = useLoad(
  () => ok(http.GET("/applications/{slug}/who", { params: { ...path(), query: { limit: 10 } } })),
  [() => props.slug, () => props.revision],
);
defineExpose({ again });
const person = ref("");
const network = ref("");
const two = ref(false);
const answer = ref<AccessAnswer | null>(null);
const { error, busy, act } = useAct();
const ask = () =>
  act(async () => {
    answer.value = await ok(
      http.POST("/applications/{slug}/explain", {
        params: path(),
        body: { person: person.value, network: network.value.trim() || undefined, twoFactor: two.value || undefined },
      }),
    );
  });
const results: Record<string, { state: string; text: string }> = {
  allow: { state: "sound", text: "gets in" },
  refuse: { state: "broken", text: "refused" },
  stronger: { state: "attention", text: "second factor" },
};
const because = (a: AccessAnswer) => (a.before.length ? a.before.join("; ") : a.by);
</script>

<template>
  <section>
    <h3>Who can get in, and why?</h3>
    <p v-if="loadError" class="error" role="alert">{{ loadError }}</p>
    <ul v-if="data" class="sentences">
      <li v-for="s in data.rules" :key="s">{{ s }}</li>
    </ul>
    <table v-if="data?.items.length" class="list">
      <thead>
        <tr>
          <th scope="col">Person</th>
          <th scope="col">Now</th>
          <th scope="col">Because</th>
          <th scope="col">Roles</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in data.items" :key="a.person.id">
          <td>
            <RouterLink :to="`/people/${a.person.id}`">{{ a.person.name }}</RouterLink>
          </td>
          <td>
            <span class="tag" :class="results[a.result]?.state">{{ results[a.result]?.text }}</span>
          </td>
          <td>{{ because(a) }}</td>
          <td class="mono">{{ a.roles.join(", ") }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="data" class="soft">
      {{
        data.everybody
          ? "Nobody has signed in yet; whoever comes through a provider gets in by the rules above."
          : "Nobody is assigned, so nobody gets in."
      }}
    </p>
    <p v-if="data?.next" class="soft">These are the first; ask about anybody below.</p>
    <h3>Why can this person, or can't?</h3>
    <form class="ask" @submit.prevent="ask">
      <PersonPick v-model="person" label="Person" /><TextBox
        v-model="network"
        label="Coming from"
        hint="A network address, if rules ask for it."
        mono
      /><CheckBox v-model="two" label="With a second factor" /><ElButton
        native-type="submit"
        :loading="busy"
        :disabled="!person"
        >Ask</ElButton
      >
    </form>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <div v-if="answer" class="answer" aria-live="polite">
      <p>
        <b>{{ answer.person.name }}</b>
        <span class="tag" :class="results[answer.result]?.state">{{ results[answer.result]?.text }}</span>
        {{ because(answer) }}
      </p>
      <p class="soft small">Asked about: {{ answer.asked }}.</p>
      <p v-for="p in answer.passed" :key="p" class="soft small">Passed over: {{ p }}</p>
    </div>
  </section>
</template>

<style scoped>
section {
  margin-top: 22px;
  border-top: 1px solid var(--rule);
  padding-top: 14px;
}
.sentences {
  margin: 0 0 12px;
  padding-left: 20px;
}
.ask {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(180px, 1fr));
  gap: 12px;
  align-items: end;
}
.ask > * {
  margin-bottom: 14px;
}
.answer p {
  margin: 2px 0;
}
h3 {
  margin-top: 16px;
}
</style>
