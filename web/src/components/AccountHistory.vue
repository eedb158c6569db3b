<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type TraceEntry } from "../api/client";
import { actsOf, remarksOf, stateOf, tagOf } from "../composables/accounts";
import { useAct, useLoad } from "../composables/load";
import MessageText from "./MessageText.vue";
import SilentNodes from "./SilentNodes.vue";
import TimeText from "./TimeText.vue";

/** One account: why it is there, what it should be, and each request and answer about it. */
const props = defineProps<{ slug: string; id: string; readonly: boolean }>();
const emit = defineEmits<{ close: []; changed: [] }>();
const at = computed(() => ({ path: { slug: props.slug, id: props.id } }));
const {
  data,
  error: loadError,
  again,
} = useLoad(
  () => ok(http.GET("/applications/{slug}/accounts/list/{id}", { params: at.value })),
  [() => props.slug, () => props.id],
);
const { error, busy, act } = useAct();
const post = (what: string) =>
  act(async () => {
    await ok(
      http.POST("/applications/{slug}/accounts/act", {
        params: { path: { slug: props.slug } },
        body: { do: what, ids: [props.id] },
      }),
    );
    await again();
    emit("changed");
  });
const shown = ref<string[]>([]);
const steps = (entries: TraceEntry[]) => entries.filter((e) => e.message);
const took = (micros: number) => `${(micros / 1000).toFixed(1)} ms`;
const whats: Record<string, string> = {
  create: "To make it",
  change: "To change it",
  deactivate: "To deactivate it",
  delete: "To delete it",
};
</script>

<template>
  <p><ElButton link type="primary" @click="emit('close')">All accounts</ElButton></p>
  <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
  <template v-if="data">
    <h3>
      {{ data.name }} <span class="tag" :class="tagOf(data)">{{ stateOf(data) }}</span>
      <span v-if="data.kind === 'group'" class="tag">group</span>
    </h3>
    <p>
      <template v-if="data.remoteName"
        >There it is <span class="mono">{{ data.remoteName }}</span><template v-if="data.there === 'inactive'"
          >, inactive</template
        >. </template
      ><template v-if="data.why">{{ data.wanted ? "To be there" : "Not to be there" }}: {{ data.why }}. </template>
      <RouterLink v-if="data.kind === 'person' && data.who" :to="`/people/${data.who}`">The person</RouterLink>
    </p>
    <p v-for="r in remarksOf(data)" :key="r">{{ r }}</p>
    <p v-if="data.remedy" class="soft">
      {{ data.remedy }} <span class="mono">{{ data.code }}</span><template v-if="data.nextTry"
        >. Tried again <TimeText :at="data.nextTry" from />.</template
      >
    </p>
    <div v-if="!readonly" class="row">
      <ElButton v-for="[what, words] in actsOf(data)" :key="what" size="small" :loading="busy" @click="post(what)">{{
        words
      }}</ElButton>
    </div>
    <h3>What it should be</h3>
    <ElTable v-if="data.values.length" table-layout="auto" size="small" :data="data.values">
      <ElTableColumn label="Attribute"
        ><template #default="{ row }"
          ><span class="mono">{{ row.path }}</span></template
        ></ElTableColumn
      >
      <ElTableColumn label="Value" prop="value" />
    </ElTable>
    <p v-else class="soft">Nothing can be said of it now.</p>
    <h3>What went between the gate and the application</h3>
    <SilentNodes :nodes="data.silent" />
    <p v-if="!data.talks.length" class="soft">Nothing was sent about it yet.</p>
    <ElCollapse v-else v-model="shown">
      <ElCollapseItem v-for="t in data.talks" :key="t.id" :name="t.id">
        <template #title>
          <span class="talk"
            ><TimeText :at="t.at" from /> <b>{{ whats[t.what] ?? t.what }}</b>
            <span class="tag" :class="t.code ? 'broken' : 'sound'">{{ t.code || t.result }}</span>
            <span class="soft small">{{ took(t.micros) }}</span></span
          >
        </template>
        <template v-if="shown.includes(t.id)">
          <section v-for="(e, i) in steps(t.entries)" :key="i" class="message">
            <p class="small">
              <b>{{ e.message!.from === "gate" ? "The gate asks" : "It answers" }}</b>
              <span class="mono"> {{ e.message!.name }}</span>
              <span class="soft"> after {{ took(e.at) }}</span>
              <span v-if="e.message!.from === 'gate'" class="mono soft address"> {{ e.message!.address }}</span>
            </p>
            <MessageText :text="e.message!.raw ?? ''" :label="e.message!.name" />
          </section>
        </template>
      </ElCollapseItem>
    </ElCollapse>
  </template>
</template>

<style scoped>
.talk {
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.message {
  margin-bottom: 10px;
}
.address {
  overflow-wrap: anywhere;
}
h3:not(:first-of-type) {
  margin-top: 18px;
}
</style>
