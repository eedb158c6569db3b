<script setup lang="ts">
import { computed } from "vue";
import { http, ok, type RuleSet } from "../api/client";
import { useEdits, type Edits } from "../composables/edits";
import { useSession } from "../composables/session";
import { sure } from "../composables/sure";
import AccessRules from "./AccessRules.vue";
import MappingEditor from "./MappingEditor.vue";
import SaveBar from "./SaveBar.vue";

// One rule set with its rules. What a change does to each user is shown before it is saved.
const props = defineProps<{ set: RuleSet; again: () => Promise<void> }>();
type Config = Pick<RuleSet, "slug" | "name" | "description" | "kind" | "mapping" | "rules">;
const session = useSession();
const config = () => {
  const { slug, name, description, kind, mapping, rules } = props.set;
  return JSON.parse(JSON.stringify({ slug, name, description, kind, mapping, rules })) as Config;
};
const path = () => ({ slug: props.set.slug });
const edits = useEdits({
  held: config,
  again: props.again,
  readonly: () => !session.engineer,
  save: async (body) => {
    await ok(
      http.PUT("/rule-sets/{slug}", { params: { path: path(), query: { revision: props.set.revision } }, body }),
    );
    await props.again();
  },
});
const { draft, readonly, problemAt } = edits;
edits.ask(async () => {
  const effects = await ok(http.POST("/rule-sets/{slug}/preview", { params: { path: path() }, body: draft.value }));
  const touched = effects.items.filter((e) => e.changes.length);
  if (!touched.length) return true;
  const lines = touched.map((e) => `${e.object.name}: ${e.changes.join("; ")}`);
  return sure(`${lines.join("\n")}\n\nSave it for all of them?`, "Save it");
});
const mapping = computed({ get: () => draft.value.mapping ?? [], set: (v) => (draft.value.mapping = v) });
const rules = computed({ get: () => draft.value.rules ?? [], set: (v) => (draft.value.rules = v) });
</script>

<template>
  <section class="panel">
    <h2>{{ set.name }}</h2>
    <MappingEditor
      v-if="set.kind === 'mapping'"
      v-model="mapping"
      direction="in"
      :readonly="readonly"
      :problem-at="problemAt"
    />
    <AccessRules v-else v-model="rules" :readonly="readonly" />
    <SaveBar :edits="edits as unknown as Edits<object>" />
  </section>
</template>
