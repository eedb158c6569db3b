<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type AccessAnswer } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import PersonPick from "./PersonPick.vue";

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
    <ElTable v-if="data?.items.length" table-layout="auto" :data="data.items">
      <ElTableColumn label="Person">
        <template #default="{ row: a }">
          <RouterLink :to="`/people/${a.person.id}`">{{ a.person.name }}</RouterLink>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Now">
        <template #default="{ row: a }">
          <span class="tag" :class="results[a.result]?.state">{{ results[a.result]?.text }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Because">
        <template #default="{ row: a }">{{ because(a as AccessAnswer) }}</template>
      </ElTableColumn>
      <ElTableColumn label="Roles">
        <template #default="{ row: a }">
          <span class="mono">{{ a.roles.join(", ") }}</span>
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else-if="data" class="soft">
      {{
        data.everybody
          ? "Nobody has signed in yet; whoever comes through a provider gets in by the rules above."
          : "Nobody is assigned, so nobody gets in."
      }}
    </p>
    <p v-if="data?.next" class="soft">These are the first; ask about anybody below.</p>
    <h3>Why can this person, or can't?</h3>
    <ElForm label-position="top" class="ask" @submit.prevent="ask">
      <PersonPick v-model="person" label="Person" />
      <ElFormItem label="Coming from">
        <ElInput v-model="network" class="mono" spellcheck="false" autocomplete="off" />
        <small>A network address, if rules ask for it.</small>
      </ElFormItem>
      <ElCheckbox v-model="two">With a second factor</ElCheckbox>
      <ElButton native-type="submit" :loading="busy" :disabled="!person">Ask</ElButton>
    </ElForm>
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
