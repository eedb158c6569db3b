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
// Messages and steps that stand side by side, by their place in the record. They are in the address, so that it can be sent.
const pinned = computed(() =>
  String(route.query.pinned ?? "")
    .split(",")
    .filter(Boolean)
    .map(Number)
    .filter((n) => Number.isInteger(n) && n < (trace.value?.entries.length ?? 0)),
);
function pin(index: number) {
  const list = pinned.value.includes(index) ? pinned.value.filter((n) => n !== index) : [...pinned.value, index];
  void router.replace({ query: { ...route.query, pinned: list.length ? list.join(",") : undefined } });
}
/** The other message of two that are pinned, so that what differs can be marked. */
const beside = (n: number) => {
  const other = pinned.value.length === 2 ? pinned.value.find((m) => m !== n) : undefined;
  return other === undefined ? undefined : trace.value?.entries[other]?.decoded;
};
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
          ><template v-if="trace.node"> · kept by the node at {{ trace.node }}</template>
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
        <TraceDetail :trace="trace" :chosen="chosen">
          <ElButton v-if="chosen >= 0" size="small" :aria-pressed="pinned.includes(chosen)" @click="pin(chosen)">{{
            pinned.includes(chosen) ? "Take the pin out" : "Pin"
          }}</ElButton>
        </TraceDetail>
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
    <section v-if="pinned.length" class="pinned">
      <h2>Side by side</h2>
      <div class="pins">
        <TraceDetail v-for="n in pinned" :key="n" :trace="trace" :chosen="n" :other="beside(n)">
          <ElButton size="small" @click="pin(n)">Take the pin out</ElButton>
        </TraceDetail>
      </div>
    </section>
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
.pinned {
  margin-top: 24px;
}
.pins {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(420px, 100%), 1fr));
  gap: 16px;
  align-items: start;
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
