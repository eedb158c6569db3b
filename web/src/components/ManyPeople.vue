<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Person, type PersonLine } from "../api/client";
import { useMany, type useChosen } from "../composables/chosen";
import { sure } from "../composables/sure";
import ManyBar from "./ManyBar.vue";
import ObjectPick from "./ObjectPick.vue";

// What can be done to many people at once: their groups, whether they are active, their sessions.
const props = defineProps<{ chosen: ReturnType<typeof useChosen<PersonLine>> }>();
const emit = defineEmits<{ changed: [] }>();
const list = computed(() => [...props.chosen.rows.value.values()]);
const { done, of, failed, busy, run, tell, stop } = useMany();
const group = ref("");
const at = (p: PersonLine) => ({ path: { id: p.id } });

type Body = { profile: Record<string, string[]>; type: string; active: boolean; groups: string[]; login: string };
const byHand = (p: Person) => p.groups.filter((g) => g.by.includes("hand")).map((g) => g.slug);
/** Changes something of each, on top of what is held of them by then. */
async function change(words: string, put: (held: Body) => Body) {
  const well = await run(
    list.value,
    (p) => p.name,
    async (line) => {
      const p = await ok(http.GET("/people/{id}", { params: at(line) }));
      const profile = p.profile as Record<string, string[]>;
      const held = { profile, type: p.type, active: p.active, groups: byHand(p), login: p.login ?? "" };
      await ok(http.PUT("/people/{id}", { params: at(line), body: put(held) }));
    },
  );
  finish(well, words);
}
function finish(well: PersonLine[], words: string) {
  tell(well, words, props.chosen);
  emit("changed");
}
async function activate(active: boolean) {
  const cost = "every sign-in and token of theirs ends at once, and nobody gets in by these records.";
  if (!active && !(await sure(`${list.value.length} people: ${cost}`, "Make them inactive"))) return;
  await change(active ? "are active" : "are not active any more", (held) => ({ ...held, active }));
}
async function join(into: boolean) {
  const slug = group.value;
  await change(into ? `are in ${slug}` : `have left ${slug}`, (held) => ({
    ...held,
    groups: into ? [...new Set([...held.groups, slug])] : held.groups.filter((g) => g !== slug),
  }));
  group.value = "";
}
async function endSessions() {
  if (!(await sure(`End all sessions of ${list.value.length} people? Their applications are told.`, "End them")))
    return;
  const well = await run(
    list.value,
    (p) => p.name,
    (p) => ok(http.DELETE("/people/{id}/sessions", { params: at(p) })),
  );
  finish(well, "have no session any more");
}
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
    <ObjectPick v-model="group" class="group" of="groups" label="Group to join or leave" placeholder="group" />
    <ElButton size="small" :disabled="!group" @click="join(true)">Join it</ElButton>
    <ElButton size="small" :disabled="!group" @click="join(false)">Leave it</ElButton>
    <ElButton size="small" @click="activate(true)">Make active</ElButton>
    <ElButton size="small" @click="activate(false)">Make inactive</ElButton>
    <ElButton size="small" type="danger" @click="endSessions">End their sessions</ElButton>
  </ManyBar>
</template>

<style scoped>
.group {
  width: 12rem;
}
</style>
