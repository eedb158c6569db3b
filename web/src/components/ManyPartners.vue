<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import {
  applicationConfig,
  http,
  ok,
  providerConfig,
  type Application,
  type ApplicationConfig,
  type Provider,
  type ProviderConfig,
} from "../api/client";
import { useMany, type useChosen } from "../composables/chosen";
import { sure } from "../composables/sure";
import ManyBar from "./ManyBar.vue";

type Partner = Application | Provider;

// What can be done to many applications or providers at once: reach, tags, configuration as a file, a move, deletion.
const props = defineProps<{ kind: "applications" | "providers"; chosen: ReturnType<typeof useChosen<Partner>> }>();
const emit = defineEmits<{ changed: [] }>();
const router = useRouter();
const list = computed(() => [...props.chosen.rows.value.values()]);
const { done, of, failed, busy, run, tell, stop } = useMany();
const at = (p: Partner) => ({ path: { slug: p.slug } });
const apps = computed(() => props.kind === "applications");
const what = () => (apps.value ? "application" : "provider") + (list.value.length === 1 ? "" : "s");

function finish(well: Partner[], words: string) {
  tell(well, words, props.chosen);
  emit("changed");
}
async function reach(to: string, words: string, cost: string) {
  if (!(await sure(`${list.value.length} ${what()}: ${cost}`, words))) return;
  const body = { reach: to };
  const well = await run(
    list.value,
    (p) => p.name,
    (p) =>
      apps.value
        ? ok(http.PUT("/applications/{slug}/reach", { params: at(p), body }))
        : ok(http.PUT("/providers/{slug}/reach", { params: at(p), body })),
  );
  finish(well, to === "closed" ? "closed" : to === "everyone" ? "opened" : "taken back to draft");
}
async function remove() {
  const names = list.value.slice(0, 8).map((p) => p.name);
  const rest = list.value.length > 8 ? ` and ${list.value.length - 8} more` : "";
  if (!(await sure(`Delete ${names.join(", ")}${rest}? Traces and journal lines stay.`, `Delete ${list.value.length}`)))
    return;
  const well = await run(
    list.value,
    (p) => p.name,
    (p) =>
      apps.value
        ? ok(http.DELETE("/applications/{slug}", { params: at(p) }))
        : ok(http.DELETE("/providers/{slug}", { params: at(p) })),
  );
  well.forEach((p) => props.chosen.toggle(p, false));
  finish(well, "deleted");
}
const tag = ref("");
async function tags(add: boolean) {
  const word = tag.value.trim();
  if (!word) return;
  const change = (held: string[] = []) => (add ? [...new Set([...held, word])] : held.filter((t) => t !== word));
  const well = await run(
    list.value,
    (p) => p.name,
    (p) =>
      apps.value
        ? retag<ApplicationConfig>(applicationConfig(p as Application), change, (body) =>
            ok(http.PUT("/applications/{slug}", { params: { ...at(p), query: { revision: p.revision } }, body })),
          )
        : retag<ProviderConfig>(providerConfig(p as Provider), change, (body) =>
            ok(http.PUT("/providers/{slug}", { params: { ...at(p), query: { revision: p.revision } }, body })),
          ),
  );
  tag.value = "";
  finish(well, add ? `have the tag ${word}` : `have lost the tag ${word}`);
}
const retag = <C extends { tags?: string[] }>(
  config: C,
  change: (held?: string[]) => string[],
  put: (config: C) => Promise<unknown>,
) => put({ ...config, tags: change(config.tags) });

/** The configurations as one file, in the form that loading takes. */
function save() {
  const configs = list.value.map((p) =>
    apps.value ? applicationConfig(p as Application) : providerConfig(p as Provider),
  );
  const link = document.createElement("a");
  link.href = URL.createObjectURL(
    new Blob([JSON.stringify({ [props.kind]: configs }, null, 2)], { type: "application/json" }),
  );
  link.download = `innergate-${props.kind}.json`;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
const move = () =>
  void router.push({
    path: "/moves",
    query: {
      applications: list.value.map((p) => p.slug).join(","),
      from: (list.value[0] as Application).providers?.[0],
    },
  });
</script>

<template>
  <ManyBar
    :count="list.length"
    :done="done"
    :of="of"
    :busy="busy"
    :failed="failed"
    @clear="chosen.clear()"
    @stop="stop"
  >
    <ElButton size="small" @click="reach('everyone', 'Open them', 'they open for everyone who is let in.')"
      >Open</ElButton
    >
    <ElButton size="small" @click="reach('closed', 'Close them', 'nobody can sign in any more.')">Close</ElButton>
    <ElButton size="small" @click="reach('draft', 'Back to draft', 'only those who prepare them get in.')"
      >Back to draft</ElButton
    >
    <ElInput
      v-model="tag"
      size="small"
      class="tag-word"
      placeholder="tag"
      aria-label="Tag"
      @keydown.enter="tags(true)"
    />
    <ElButton size="small" :disabled="!tag.trim()" @click="tags(true)">Add it</ElButton>
    <ElButton size="small" :disabled="!tag.trim()" @click="tags(false)">Take it away</ElButton>
    <ElButton size="small" @click="save">Save as a file</ElButton>
    <ElButton v-if="apps" size="small" @click="move">Move them…</ElButton>
    <ElButton size="small" type="danger" @click="remove">Delete</ElButton>
  </ManyBar>
</template>

<style scoped>
.tag-word {
  width: 8rem;
}
</style>
