<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { http, ok } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import SelectBox from "../components/SelectBox.vue";
import TextBox from "../components/TextBox.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const { data, error } = useLoad(() => ok(http.GET("/moves")));
const { data: providers } = useLoad(() => ok(http.GET("/providers", { params: { query: { limit: 200 } } })));
const name = ref("");
const from = ref("");
const to = ref("");
const remark = ref("");
const people = ref("");
const groups = ref("");
const some = ref<string[]>([]);
const { data: apps } = useLoad(
  async () =>
    from.value ? ok(http.GET("/applications", { params: { query: { provider: from.value, limit: 200 } } })) : null,
  [from],
);
const options = computed<[string, string][]>(() => (providers.value?.items ?? []).map((p) => [p.slug, p.name]));
const list = (text: string) => text.split(/[,\s]+/).filter(Boolean);
const { error: failed, busy, act } = useAct();
const plan = () =>
  act(async () => {
    const circle =
      list(people.value).length + list(groups.value).length
        ? { people: list(people.value), groups: list(groups.value) }
        : undefined;
    const made = await ok(
      http.POST("/moves", {
        body: {
          name: name.value,
          from: from.value,
          to: to.value,
          remark: remark.value || undefined,
          applications: some.value.length ? some.value : undefined,
          circle,
        },
      }),
    );
    await router.push(`/moves/${made.slug}`);
  });
const states: Record<string, string> = { open: "attention", done: "sound", "given up": "" };
</script>

<template>
  <h1>Moves</h1>
  <p class="sub">
    From one provider to another, for many applications, in waves: with proof before each step, and a way back after it.
  </p>
  <EstateNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <table v-if="data?.items.length" class="list">
    <thead>
      <tr>
        <th scope="col">Name</th>
        <th scope="col">From</th>
        <th scope="col">To</th>
        <th scope="col">Moved</th>
        <th scope="col">State</th>
        <th scope="col">Planned</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="m in data.items" :key="m.slug">
        <td>
          <RouterLink :to="`/moves/${m.slug}`"
            ><b>{{ m.name }}</b></RouterLink
          >
        </td>
        <td>{{ m.from.name }}</td>
        <td>{{ m.to.name }}</td>
        <td>{{ m.moved }} of {{ m.applications }}</td>
        <td>
          <span class="tag" :class="states[m.state]">{{ m.state }}</span>
        </td>
        <td><TimeText :at="m.created" from /> by {{ m.by }}</td>
      </tr>
    </tbody>
  </table>
  <p v-else-if="data" class="panel empty">
    Nothing is being moved. A move is planned first; no application changes until a wave of it is opened.
  </p>
  <form v-if="session.engineer" class="panel add" @submit.prevent="plan">
    <h2>Plan a move</h2>
    <TextBox v-model="name" label="Name" hint="What a colleague will understand in two years." />
    <div class="pair">
      <SelectBox v-model="from" label="From" :options="[['', 'choose'], ...options]" /><SelectBox
        v-model="to"
        label="To"
        :options="[['', 'choose'], ...options.filter(([s]) => s !== from)]"
      />
    </div>
    <fieldset v-if="apps?.items.length">
      <legend>
        <b>Applications</b> <small class="soft">none chosen: all {{ apps.items.length }}</small>
      </legend>
      <label v-for="a in apps.items" :key="a.slug"
        ><input v-model="some" type="checkbox" :value="a.slug" /> {{ a.name }}</label
      >
    </fieldset>
    <p v-else-if="apps" class="soft">No application has it.</p>
    <div class="pair">
      <TextBox
        v-model="groups"
        label="Groups that try it"
        hint="Short names. Their people's sign-ins both ways count; nobody named: everybody's."
      /><TextBox v-model="people" label="People who try it" hint="By user name or mail address." />
    </div>
    <TextBox v-model="remark" label="Remark" />
    <ElButton
      type="primary"
      native-type="submit"
      :loading="busy"
      :disabled="!name.trim() || !from || !to || !apps?.items.length"
      >Plan it</ElButton
    >
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
  </form>
</template>

<style scoped>
.add {
  margin-top: 24px;
  max-width: 860px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 16px;
}
fieldset {
  border: 1px solid var(--rule);
  border-radius: 4px;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(200px, 1fr));
  gap: 6px 14px;
  margin: 0 0 14px;
}
input[type="checkbox"] {
  width: 18px;
  height: 18px;
  accent-color: var(--sea);
  vertical-align: middle;
}
</style>
