<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute } from "vue-router";
import { http, ok, type MoveApplication, type MoveComparison, type MoveWave } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import EstateNav from "../components/EstateNav.vue";
import MoveCompared from "../components/MoveCompared.vue";
import MoveReady from "../components/MoveReady.vue";
import StillUsesPanel from "../components/StillUsesPanel.vue";
import TimeText from "../components/TimeText.vue";
import WavePanel from "../components/WavePanel.vue";
import { results } from "../composables/movewords";
import { useAct, useLoad, useTicker } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const route = useRoute();
const slug = computed(() => String(route.params.slug));
const path = () => ({ path: { slug: slug.value } });
const { data: move, error, again } = useLoad(() => ok(http.GET("/moves/{slug}", { params: path() })), [slug]);
const { data: uses, again: usesAgain } = useLoad(
  async () =>
    move.value ? ok(http.GET("/providers/{slug}/uses", { params: { path: { slug: move.value.from.slug } } })) : null,
  [() => move.value?.moved],
);
const { data: compared, again: comparedAgain } = useLoad(
  async () =>
    session.engineer
      ? ok(http.GET("/moves/{slug}/comparisons", { params: { ...path(), query: {} } }))
      : { items: [] as MoveComparison[] },
  [slug, () => JSON.stringify(move.value?.apps.map((a) => a.compared))],
);
useTicker(4000, () => {
  if (move.value?.state === "open") void again();
});
const { error: failed, busy, act } = useAct();
async function refresh() {
  await again();
  await Promise.all([usesAgain(), comparedAgain()]);
}
const trial = ref<{ slug: string; link: string; people: number } | null>(null);
const try_ = (a: MoveApplication) =>
  act(async () => {
    const t = await ok(http.POST("/moves/{slug}/trials", { params: path(), body: { application: a.slug } }));
    trial.value = { slug: a.slug, link: t.link, people: t.people };
  });
const put = (a: MoveApplication, wave: number) =>
  act(async () => {
    const w = move.value!.waves.find((x) => x.number === wave);
    move.value = await ok(
      http.PUT("/moves/{slug}/waves/{number}", {
        params: { path: { slug: slug.value, number: String(wave) } },
        body: {
          applications: [a.slug],
          opens: w?.opens,
          closes: w?.closes,
          limits: w?.limits ?? { failures: 3, differences: 0 },
        },
      }),
    );
  });
const end = () =>
  act(async () => {
    if (!(await sure("End this move? What has moved stays moved; what was kept for comparing is deleted.", "End it")))
      return;
    await ok(http.DELETE("/moves/{slug}", { params: path() }));
    await refresh();
  });
const nextWave = computed(() => Math.max(0, ...(move.value?.waves ?? []).map((w) => w.number)) + 1);
const movable = (w: MoveWave | undefined) => !w || w.state !== "open";
</script>

<template>
  <EstateNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="move">
    <div class="head">
      <div>
        <h1>{{ move.name }}</h1>
        <p class="sub">
          From <RouterLink :to="`/providers/${move.from.slug}`">{{ move.from.name }}</RouterLink> to
          <RouterLink :to="`/providers/${move.to.slug}`">{{ move.to.name }}</RouterLink> · {{ move.moved }} of
          {{ move.applications }} have moved<template v-if="move.remark"> · {{ move.remark }}</template>
        </p>
      </div>
      <div class="row">
        <span class="tag" :class="move.state === 'open' ? 'attention' : 'sound'">{{ move.state }}</span>
        <ElButton v-if="session.engineer && move.state === 'open'" @click="end">End the move</ElButton>
      </div>
    </div>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
    <WavePanel
      v-for="w in move.waves"
      :key="w.number"
      :move="move"
      :wave="w"
      :readonly="!session.engineer || move.state !== 'open'"
      @changed="refresh"
    >
      <ElTable table-layout="auto" :data="move.apps.filter((x) => x.wave === w.number)" row-key="slug">
        <ElTableColumn label="Application">
          <template #default="{ row: a }">
            <RouterLink :to="`/applications/${a.slug}`"
              ><b>{{ a.name }}</b></RouterLink
            ><br /><span class="tag" :class="a.state === 'moved' ? 'sound' : a.state === 'back' ? 'broken' : ''">{{
              a.state === "moved" ? "moved" : a.state === "back" ? "went back" : "waits"
            }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Used">
          <template #default="{ row: a }">
            <span class="small"
              >{{ a.users }} people, {{ a.signIns }} sign-ins in 30 days<br /><span class="soft"
                >the last <TimeText :at="a.lastSignIn" from /></span
            ></span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Ready">
          <template #default="{ row: a }">
            <MoveReady :move="move" :a="a as MoveApplication" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Both ways">
          <template #default="{ row: a }">
            <span class="small"
              ><span v-for="(n, r) in a.compared" :key="r" class="tag" :class="results[r]?.state"
                >{{ n }} {{ results[r]?.text ?? r }}</span
              ><span v-if="!Object.keys(a.compared).length" class="soft">nobody yet</span></span
            >
          </template>
        </ElTableColumn>
        <ElTableColumn v-if="session.engineer">
          <template #header>
            <span class="visually-hidden">Act</span>
          </template>
          <template #default="{ row: a }">
            <div v-if="move.state === 'open'" class="stack small">
              <ElButton size="small" :loading="busy" @click="try_(a as MoveApplication)"
                >Link to try both ways</ElButton
              >
              <label v-if="a.state !== 'moved' && movable(w)" class="which"
                >Wave
                <ElSelect
                  :model-value="a.wave"
                  :aria-label="`Wave of ${a.name}`"
                  @change="put(a as MoveApplication, Number($event))"
                >
                  <ElOption
                    v-for="n in nextWave"
                    :key="n"
                    :disabled="!movable(move.waves.find((x) => x.number === n))"
                    :value="n"
                    :label="n"
                  />
                </ElSelect>
              </label>
            </div>
            <div v-if="trial?.slug === a.slug" class="trial">
              <CopyValue :value="trial!.link" label="the link" />
              <p class="small soft">
                For {{ trial!.people }} people of the circle. They sign in once at each provider; nothing reaches the
                application.
              </p>
            </div>
          </template>
        </ElTableColumn>
      </ElTable>
    </WavePanel>
    <MoveCompared v-if="compared?.items.length" :move="move" :compared="compared.items" />
    <StillUsesPanel v-if="uses" :uses="uses" />
  </template>
</template>

<style scoped>
section {
  margin-top: 20px;
}
details {
  margin-top: 4px;
  max-width: 34rem;
}
summary {
  cursor: pointer;
  color: var(--sea);
}
.tag {
  margin: 0 4px 2px 0;
}
.which {
  display: block;
  white-space: nowrap;
}
.trial {
  max-width: 22rem;
  margin-top: 8px;
}
</style>
