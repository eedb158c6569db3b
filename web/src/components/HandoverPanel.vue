<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Handover } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import type { Kind } from "../composables/partner";
import CopyValue from "./CopyValue.vue";
import TimeText from "./TimeText.vue";
import TraceTable from "./TraceTable.vue";

const props = defineProps<{ kind: Kind; slug: string }>();
const params = () => ({ path: { slug: props.slug } });
const { data, again } = useLoad(
  () =>
    props.kind === "applications"
      ? ok(http.GET("/applications/{slug}/handovers", { params: params() }))
      : ok(http.GET("/providers/{slug}/handovers", { params: params() })),
  [() => props.slug],
);
const hours = ref("168");
const openings = ref("3");
const remark = ref("");
const made = ref<Handover | null>(null);
const { error, busy, act } = useAct();
const order = () =>
  act(async () => {
    const body = {
      hours: Number(hours.value),
      openings: Number(openings.value),
      remark: remark.value.trim() || undefined,
    };
    made.value = await (props.kind === "applications"
      ? ok(http.POST("/applications/{slug}/handovers", { params: params(), body }))
      : ok(http.POST("/providers/{slug}/handovers", { params: params(), body })));
    remark.value = "";
    await again();
  });
const revoke = (h: Handover) =>
  act(async () => {
    await ok(http.DELETE("/handovers/{id}", { params: { path: { id: h.id } } }));
    await again();
  });
const words: Record<string, { text: string; state: string }> = {
  open: { text: "open", state: "sound" },
  "used up": { text: "opened as often as it may be", state: "attention" },
  over: { text: "over", state: "" },
  revoked: { text: "revoked", state: "broken" },
};
const list = computed(() => data.value?.items ?? []);
</script>

<template>
  <section class="panel">
    <h2>Handover link</h2>
    <p class="soft small">
      For the other side's engineer, who needs no account here: takes our values, compares, leaves theirs, tries a
      sign-in with a test account. What is left waits as a proposed change.
    </p>
    <ElForm label-position="top" @submit.prevent="order">
      <ElFormItem label="What you ask for">
        <ElInput v-model="remark" type="textarea" :rows="2" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Good for">
        <ElSelect v-model="hours">
          <ElOption
            v-for="[value, text] in [
              ['24', 'a day'],
              ['168', 'a week'],
              ['720', 'a month'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="May be opened in">
        <ElSelect v-model="openings">
          <ElOption
            v-for="[value, text] in [
              ['1', 'one browser'],
              ['3', 'three browsers'],
              ['10', 'ten browsers'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElButton native-type="submit" :loading="busy">Make a link</ElButton>
    </ElForm>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <div v-if="made?.link" class="made">
      <p class="small">It is shown only now.</p>
      <CopyValue :value="made.link" label="the handover link" />
    </div>
    <div v-for="h in list" :key="h.id" class="one">
      <p>
        <span class="tag" :class="words[h.state]?.state">{{ words[h.state]?.text ?? h.state }}</span>
        <span class="small soft">until <TimeText :at="h.expires" />, by {{ h.by }}</span>
        <ElButton v-if="h.state === 'open' || h.state === 'used up'" link type="primary" @click="revoke(h)"
          >revoke</ElButton
        >
      </p>
      <p v-if="h.remark" class="small">{{ h.remark }}</p>
      <ul class="small">
        <li v-for="o in h.openings" :key="o.at + o.address">
          opened <TimeText :at="o.at" /> · {{ o.device }} · <span class="mono">{{ o.address }}</span>
        </li>
        <li v-if="!h.openings.length" class="soft">not opened yet</li>
        <li v-for="id in h.left" :key="id"><RouterLink :to="`/proposals/${id}`">what was left</RouterLink></li>
      </ul>
      <TraceTable v-if="h.rehearsals.length" :traces="h.rehearsals" empty="" />
    </div>
  </section>
</template>

<style scoped>
.one {
  border-top: 1px solid var(--rule);
  margin-top: 12px;
  padding-top: 8px;
}
.one p {
  margin: 0 0 4px;
}
.made {
  margin-top: 12px;
}
ul {
  margin: 4px 0;
  padding-left: 18px;
}
.link {
  background: none;
  border: 0;
  padding: 0;
  color: var(--sea);
  font: inherit;
  cursor: pointer;
  text-decoration: underline;
}
</style>
