<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type ApplicationConfig, type Policy, type Rule, type RuleSet, type SetEffect } from "../api/client";
import AccessEditor from "../components/AccessEditor.vue";
import MappingEditor from "../components/MappingEditor.vue";
import PeopleNav from "../components/PeopleNav.vue";
import SelectBox from "../components/SelectBox.vue";
import TextBox from "../components/TextBox.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const { data, error: loadError, again } = useLoad(() => ok(http.GET("/rule-sets")));
const chosen = ref("");
const set = computed(() => data.value?.items.find((s) => s.slug === chosen.value));
const one = ref({ name: "", kind: "mapping", description: "" });
const effects = ref<SetEffect[]>([]);
const { error, busy, act } = useAct();
const add = () =>
  act(async () => {
    const made = await ok(http.POST("/rule-sets", { body: { ...one.value, slug: "" } }));
    one.value = { name: "", kind: "mapping", description: "" };
    await again();
    chosen.value = made.slug;
  });
const config = (s: RuleSet) => ({
  slug: s.slug,
  name: s.name,
  description: s.description,
  kind: s.kind,
  mapping: s.mapping,
  rules: s.rules,
});

/** Shows what the change does to each user before it is saved. */
async function store(change: Partial<ReturnType<typeof config>>) {
  const s = set.value!;
  const body = JSON.parse(JSON.stringify({ ...config(s), ...change }));
  const path = { slug: s.slug };
  effects.value = (await ok(http.POST("/rule-sets/{slug}/preview", { params: { path }, body }))).items;
  const touched = effects.value.filter((e) => e.changes.length);
  if (
    touched.length &&
    !confirm(
      `${touched.map((e) => `${e.object.name}: ${e.changes.join("; ")}`).join("\n")}\n\nSave it for all of them?`,
    )
  )
    throw new Error("Nothing was saved.");
  await ok(http.PUT("/rule-sets/{slug}", { params: { path, query: { revision: s.revision } }, body }));
  effects.value = [];
  await again();
}
const saveMapping = (mapping: Rule[]) => store({ mapping });
// The access editor edits an application's policy; of a set only the rules count.
const standIn = computed(
  () => ({ access: { to: "everybody", otherwise: "allow", rules: set.value?.rules ?? [] } as Policy }) as never,
);
const saveRules = (change: (held: ApplicationConfig) => ApplicationConfig) =>
  store({ rules: change({} as ApplicationConfig).access?.rules ?? [] });
const remove = (s: RuleSet) =>
  confirm(`Delete the rule set ${s.name}?`) &&
  act(async () => {
    await ok(http.DELETE("/rule-sets/{slug}", { params: { path: { slug: s.slug } } }));
    chosen.value = "";
    await again();
  });
</script>

<template>
  <h1>Rule sets</h1>
  <p class="sub">
    Mappings and access rules with a name of their own, used by many. A change acts on all of them at once, and says so
    before.
  </p>
  <PeopleNav />
  <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
  <div class="cols">
    <div class="stack">
      <table v-if="data?.items.length" class="list">
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">For</th>
            <th scope="col">Rules</th>
            <th scope="col">Used by</th>
            <th scope="col"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in data.items" :key="s.slug">
            <td>
              <a href="#" @click.prevent="chosen = chosen === s.slug ? '' : s.slug"
                ><b>{{ s.name }}</b></a
              >
              <span class="mono soft">{{ s.slug }}</span><br /><span class="soft small">{{ s.description }}</span>
            </td>
            <td>{{ s.kind }}</td>
            <td>{{ (s.mapping?.length ?? 0) + (s.rules?.length ?? 0) }}</td>
            <td>
              <template v-for="(u, i) in s.usedBy.slice(0, 5)" :key="u.kind + u.slug"
                >{{ i ? ", " : "" }}<RouterLink :to="`/${u.kind}s/${u.slug}`">{{ u.name }}</RouterLink></template
              ><template v-if="s.usedBy.length > 5"> and {{ s.usedBy.length - 5 }} more</template
              ><span v-if="!s.usedBy.length" class="soft">nobody</span>
            </td>
            <td><ElButton v-if="session.engineer" size="small" type="danger" @click="remove(s)">Delete</ElButton></td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="data" class="panel empty">
        There is no rule set. What several mappings or access lists have in common can stand here once.
      </p>
      <section v-if="set" class="panel">
        <h2>{{ set.name }}</h2>
        <MappingEditor
          v-if="set.kind === 'mapping'"
          :key="set.slug"
          :mapping="set.mapping ?? []"
          direction="in"
          :readonly="!session.engineer"
          :save="saveMapping"
        /><AccessEditor
          v-else
          :key="set.slug + set.revision"
          :application="standIn"
          :readonly="!session.engineer"
          :save="saveRules"
          rules-only
        />
      </section>
    </div>
    <form v-if="session.engineer" class="panel" @submit.prevent="add">
      <h2>Add a rule set</h2>
      <TextBox v-model="one.name" label="Name" /><SelectBox
        v-model="one.kind"
        label="For"
        :options="[
          ['mapping', 'mapping'],
          ['access', 'access'],
        ]"
      /><TextBox v-model="one.description" label="What it is for" /><ElButton
        type="primary"
        native-type="submit"
        :loading="busy"
        :disabled="!one.name.trim()"
        >Add</ElButton
      >
    </form>
  </div>
</template>
