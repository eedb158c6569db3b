<script setup lang="ts">
import { ElButton, ElProgress, ElTable, ElTableColumn } from "element-plus";
import { computed, onBeforeUnmount, ref, watch } from "vue";
import { http, ok, type Reading } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import { sure } from "../composables/sure";
import TimeText from "./TimeText.vue";

/** Reads people from a directory: looks first, then writes, and asks where too many are gone. */
const props = defineProps<{ slug: string }>();
const path = computed(() => ({ path: { slug: props.slug } }));
const one = (id: string) => ({ params: { path: { slug: props.slug, id } } });
const {
  data,
  error: loadError,
  again,
} = useLoad(() => ok(http.GET("/providers/{slug}/readings", { params: path.value })), [() => props.slug]);
const last = computed<Reading | undefined>(() => data.value?.items?.[0]);
const read = computed(() => (data.value?.items ?? []).some((r) => r.state === "done"));
const working = computed(() => last.value?.state === "looking" || last.value?.state === "writing");
const { error, busy, act } = useAct();
const done = (f: () => Promise<unknown>) =>
  act(async () => {
    await f();
    await again();
  });
const begin = (body: { write?: boolean; changed?: boolean }) =>
  done(() => ok(http.POST("/providers/{slug}/readings", { params: path.value, body })));
const write = (r: Reading) => done(() => ok(http.POST("/providers/{slug}/readings/{id}/write", one(r.id))));
const cancel = (r: Reading) => done(() => ok(http.DELETE("/providers/{slug}/readings/{id}", one(r.id))));
const agree = async (r: Reading) =>
  (await sure(`Make ${r.gone} people inactive? What they have open ends.`, "Make them inactive")) && write(r);

const timer = ref<ReturnType<typeof setTimeout>>();
watch(
  data,
  () => {
    clearTimeout(timer.value);
    if (working.value) timer.value = setTimeout(() => again(), 1000);
  },
  { immediate: true },
);
onBeforeUnmount(() => clearTimeout(timer.value));
const counts = computed(() => {
  const r = last.value;
  return r
    ? [
        [r.entries, "entries read"],
        [r.made, "new"],
        [r.updated, "changed"],
        [r.same, "as they were"],
        [r.back, "active again"],
        [r.gone, `gone, of ${r.known}`],
        [r.elsewhere, "gone, but come another way too"],
        [r.bad, "not taken"],
      ]
    : [];
});
const words: Record<string, string> = {
  looking: "is looked at",
  looked: "was looked at; nothing is written",
  writing: "is being written",
  asking: "asks: more are gone than may be at once",
  done: "was read and written",
  stopped: "stopped",
  cancelled: "cancelled",
};
</script>

<template>
  <section class="panel read">
    <h3>Reading people</h3>
    <p class="soft small">
      Takes people and their groups from the directory before they sign in, and makes those inactive whom it no longer
      has. Looked at first; written when you say so.
    </p>
    <div class="row">
      <ElButton :type="read ? undefined : 'primary'" :loading="busy" :disabled="working" @click="begin({})"
        >Look what would come of it</ElButton
      >
      <ElButton v-if="read" type="primary" :loading="busy" :disabled="working" @click="begin({ write: true })"
        >Read all of it</ElButton
      >
      <ElButton v-if="read" :loading="busy" :disabled="working" @click="begin({ write: true, changed: true })"
        >Read what changed</ElButton
      >
    </div>
    <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
    <template v-if="last">
      <p aria-live="polite">
        <b>{{ last.changed ? "What changed" : "The whole" }} {{ words[last.state] }}.</b>
        <span class="soft"> By {{ last.by }}, <TimeText :at="last.touched" from />. {{ last.note }}</span>
      </p>
      <ElProgress
        v-if="working"
        aria-label="People are being read"
        :percentage="100"
        indeterminate
        :show-text="false"
        :stroke-width="4"
      />
      <dl class="counts">
        <template v-for="[n, what] in counts" :key="what">
          <dt>{{ n }}</dt>
          <dd>{{ what }}</dd>
        </template>
      </dl>
      <p v-if="last.goneNames?.length" class="small">Gone: {{ last.goneNames.join(", ") }}</p>
      <div class="row">
        <ElButton
          v-if="last.state === 'looked' || last.state === 'stopped'"
          type="primary"
          :loading="busy"
          @click="write(last)"
          >{{ last.state === "looked" ? "Write it" : "Go on" }}</ElButton
        >
        <ElButton v-if="last.state === 'asking'" type="danger" :loading="busy" @click="agree(last)"
          >Make {{ last.gone }} inactive</ElButton
        >
        <ElButton v-if="working || last.state === 'asking'" :loading="busy" @click="cancel(last)">Cancel it</ElButton>
      </div>
      <ElTable v-if="last.problems?.length" :data="last.problems" size="small" max-height="320">
        <ElTableColumn label="Not taken" width="320">
          <template #default="{ row }"
            ><span class="mono">{{ row.entry }}</span></template
          >
        </ElTableColumn>
        <ElTableColumn label="Why" prop="text" />
      </ElTable>
    </template>
  </section>
</template>

<style scoped>
.read {
  margin-top: 18px;
}
.counts {
  display: grid;
  grid-template-columns: repeat(4, auto 1fr);
  gap: 4px 12px;
  margin: 10px 0;
}
.counts dt {
  font-weight: 600;
  text-align: right;
}
.counts dd {
  margin: 0;
}
@media (max-width: 700px) {
  .counts {
    grid-template-columns: auto 1fr;
  }
}
</style>
