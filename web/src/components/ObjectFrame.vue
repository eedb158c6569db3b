<script setup lang="ts" generic="T extends object">
import { computed } from "vue";
import { useRouter } from "vue-router";
import { http, ok, type Finding } from "../api/client";
import type { useProposing } from "../composables/changes";
import type { Edits } from "../composables/edits";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";
import { sure } from "../composables/sure";
import FindingList from "./FindingList.vue";
import ObjectHead from "./ObjectHead.vue";
import ProposeBar from "./ProposeBar.vue";
import SaveBar from "./SaveBar.vue";
import TraceTable from "./TraceTable.vue";

/**
 * The page of an application or a provider: head, passage, the panel of the chosen station with what was found there,
 * the newest sign-ins, and one bar for saving.
 */
const props = defineProps<{
  kind: "application" | "provider";
  slug: string;
  object: { name: string; reach: string; findings?: Finding[] } | null;
  station: string;
  edits: Edits<T>;
  proposals: ReturnType<typeof useProposing>;
  error: string;
  missing: boolean;
  /** What deleting it costs. */
  price: string;
  nobody: string;
}>();
const emit = defineEmits<{ station: [name: string]; traces: [newest: string | undefined] }>();
const session = useSession();
const router = useRouter();
const { data: traces } = useLoad(async () => {
  const got = await ok(http.GET("/traces", { params: { query: { [props.kind]: props.slug, limit: 5 } } }));
  emit("traces", got.items.find((t) => t.outcome === "signed-in")?.reference);
  return got;
}, [() => props.slug]);
const { error: removeError, act } = useAct();
const path = () => ({ params: { path: { slug: props.slug } } });
async function remove() {
  if (!(await sure(`Delete ${props.object!.name}? ${props.price}`, "Delete it"))) return;
  await act(async () => {
    props.edits.drop();
    if (props.kind === "application") await ok(http.DELETE("/applications/{slug}", path()));
    else await ok(http.DELETE("/providers/{slug}", path()));
    await router.push(`/${props.kind}s`);
  });
}
/** What was found where the page stands. */
const here = computed(() => (props.object?.findings ?? []).filter((f) => f.station === props.station));
</script>

<template>
  <ElResult v-if="missing" icon="info" :title="`There is no ${kind} of this name.`">
    <template #extra
      ><RouterLink :to="`/${kind}s`">All {{ kind }}s</RouterLink></template
    >
  </ElResult>
  <p v-else-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="object">
    <ObjectHead
      :name="object.name"
      :kind="kind"
      :slug="slug"
      :reach="object.reach"
      :findings="object.findings ?? []"
      :engineer="session.engineer"
      @station="emit('station', $event)"
      @remove="remove"
    >
      <template #about><slot name="about" /></template>
      <slot name="next" />
    </ObjectHead>
    <ProposeBar v-if="session.engineer" :proposals="proposals" :kind="kind" :slug="slug" />
    <slot name="passage" />
    <section class="panel">
      <FindingList v-if="here.length" class="here" :findings="here" />
      <slot />
    </section>
    <SaveBar :edits="edits as unknown as Edits<object>" :proposing="proposals.proposing.value" />
    <section class="later">
      <h2>Newest sign-ins</h2>
      <TraceTable :traces="traces?.items ?? []" :empty="nobody" />
    </section>
    <p v-if="removeError" class="error" role="alert">{{ removeError }}</p>
  </template>
</template>

<style scoped>
.here {
  margin-bottom: 16px;
}
.later {
  margin-top: 28px;
}
</style>
