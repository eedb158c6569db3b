<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import BundlePanel from "../components/BundlePanel.vue";
import JudgePanel from "../components/JudgePanel.vue";
import RefusedPanel from "../components/RefusedPanel.vue";
import TraceDetail from "../components/TraceDetail.vue";
import TracePassage from "../components/TracePassage.vue";
import TwoValues from "../components/TwoValues.vue";
import { useLoad, useTicker } from "../composables/load";
import { duration, flowWords, outcomeWords } from "../composables/text";
import { useSession } from "../composables/session";
import { lines } from "../composables/trace";
import TimeText from "../components/TimeText.vue";

const session = useSession();
const route = useRoute();
const router = useRouter();
const reference = computed(() => String(route.params.reference));
const {
  data: trace,
  error,
  missing,
  again,
} = useLoad(
  () => ok(http.GET("/traces/{reference}", { params: { path: { reference: reference.value } } })),
  [reference],
);
useTicker(1500, () => ["open", "waiting"].includes(trace.value?.outcome ?? "") && void again());
const chosen = ref(-1);
watch(trace, (t) => {
  if (!t || chosen.value >= 0) return;
  const all = lines(t);
  const bad =
    all.find((l) => l.kind === "step" && l.bad) ??
    [...all].reverse().find((l) => l.kind === "step" && l.step === "receive") ??
    all[0];
  if (bad && "index" in bad) chosen.value = bad.index;
});
const sides: Record<string, string> = {
  ours: "We must act.",
  theirs: "The other side must act.",
  either: "Either side can act.",
  person: "The person can act; nothing is to be changed.",
};
const copied = ref(false);
async function copy(text: string) {
  await navigator.clipboard.writeText(text);
  copied.value = true;
  setTimeout(() => (copied.value = false), 1500);
}
</script>

<template>
  <div v-if="missing" class="panel empty">
    <p>There is no trace with this number.</p>
    <RouterLink to="/traces">All traces</RouterLink>
  </div>
  <p v-else-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="trace">
    <div class="head">
      <div>
        <h1>
          Sign-in <span class="number">{{ trace.reference }}</span>
          <span class="tag" :class="outcomeWords[trace.outcome]?.state">{{ outcomeWords[trace.outcome]?.text }}</span>
        </h1>
        <p class="sub">
          <RouterLink v-if="trace.applicationSlug" :to="`/applications/${trace.applicationSlug}`">{{
            trace.application
          }}</RouterLink><template v-if="trace.providerSlug">
            through <RouterLink :to="`/providers/${trace.providerSlug}`">{{ trace.provider }}</RouterLink></template
          ><template v-if="trace.person"> · {{ trace.person }}</template> · {{ flowWords[trace.flow]
          }}<template v-if="trace.rehearsal"> · rehearsal</template> · <TimeText :at="trace.started" /> ·
          {{ duration(trace.micros)
          }}<template v-if="trace.providerMicros"
            >, of which {{ duration(trace.providerMicros) }} at the provider</template
          >
        </p>
      </div>
      <div class="row">
        <ElButton v-if="trace.applicationSlug" @click="router.push(`/traces/${trace.reference}/compare`)"
          >Compare</ElButton
        >
        <ElButton
          v-if="trace.applicationSlug"
          type="primary"
          @click="router.push(`/applications/${trace.applicationSlug}?station=rehearse`)"
          >Rehearse {{ trace.rehearsal ? "again" : "it" }}</ElButton
        >
      </div>
    </div>
    <div class="halves">
      <TracePassage :trace="trace" :chosen="chosen" @choose="chosen = $event" />
      <div class="stack">
        <article v-if="trace.explanation" class="panel why">
          <h2>{{ trace.explanation.title }}</h2>
          <p>{{ trace.explanation.cause }}</p>
          <template v-for="(e, i) in trace.explanation.evidence" :key="e.label + i">
            <p class="small soft">{{ e.label }}</p>
            <TwoValues v-if="e.expected && e.got" :difference="trace.explanation.differences[i]!" />
            <p v-else class="mono fact">{{ e.got || `nothing; expected ${e.expected}` }}</p>
          </template>
          <p>
            <b>{{ sides[trace.explanation.side] }}</b> {{ trace.explanation.remedy }}
          </p>
          <div class="row">
            <ElButton v-if="trace.explanation.message" type="primary" @click="copy(trace.explanation.message)">{{
              copied ? "Copied" : "Copy a message for them"
            }}</ElButton>
            <span class="mono soft">{{ trace.explanation.code }}</span>
          </div>
          <p class="small soft">The person was told: “{{ trace.explanation.person }}”</p>
        </article>
        <RefusedPanel v-if="trace.rehearsal && trace.outcome === 'signed-in'" :reference="trace.reference" />
        <TraceDetail :trace="trace" :chosen="chosen" />
        <JudgePanel
          v-if="
            session.engineer &&
            trace.entries.some((e) => e.message?.from === 'provider' && e.message?.name === 'Response')
          "
          :reference="trace.reference"
        />
        <BundlePanel :about="{ reference: trace.reference }" />
      </div>
    </div>
  </template>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 420px);
  gap: 20px;
  align-items: start;
  margin-top: 6px;
}
@media (max-width: 1100px) {
  .halves {
    grid-template-columns: 1fr;
  }
}
.number {
  font-family: var(--mono);
  letter-spacing: 0.03em;
}
.tag {
  vertical-align: middle;
  font-weight: 400;
}
.why {
  border-left: 4px solid var(--rust-line);
}
.why p {
  margin: 0 0 8px;
}
.fact {
  background: var(--well);
  padding: 6px 12px;
  border-radius: 3px;
}
</style>
