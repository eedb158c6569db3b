<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import type { Trace } from "../api/client";
import { lines, stepWords } from "../composables/trace";
import MessageText from "./MessageText.vue";

const props = defineProps<{
  trace: Trace;
  chosen: number;
  /** A message beside this one: what it doesn't have is marked. */
  other?: string;
}>();
const raw = ref(false);
const line = computed(() => lines(props.trace).find((l) => "index" in l && l.index === props.chosen));
const message = computed(() => (line.value?.kind === "message" ? line.value.entry : null));
const step = computed(() => (line.value?.kind === "step" ? line.value : null));
// Of a long step, the checks that held are one line until somebody wants to see them.
const long = 24;
const whole = ref(false);
watch(
  () => props.chosen,
  () => (whole.value = false),
);
const folds = computed(() => !whole.value && (step.value?.entries.length ?? 0) > long);
const heldBefore = computed(() => (folds.value ? step.value!.entries.filter((e) => e.check?.ok).length : 0));
const entries = computed(() => (step.value?.entries ?? []).filter((e) => !folds.value || !e.check?.ok));
</script>

<template>
  <section class="panel" aria-label="Details" aria-live="polite">
    <div class="pin"><slot /></div>
    <template v-if="message">
      <h2>{{ message.message!.name }}</h2>
      <p class="soft">
        {{ message.message!.from }} → {{ message.message!.to }} by {{ message.message!.binding }},
        {{ message.message!.size }} bytes<template v-if="message.message!.signature"
          >, {{ message.message!.signature }}</template
        >
      </p>
      <p v-if="message.message!.address" class="mono small">{{ message.message!.address }}</p>
      <p v-if="message.message!.relayState">
        <span class="soft">RelayState</span> <span class="mono">{{ message.message!.relayState }}</span>
      </p>
      <template v-if="message.message!.raw">
        <ElCheckbox v-if="message.message!.raw !== message.decoded" v-model="raw"
          >as it came, octet for octet</ElCheckbox
        >
        <MessageText
          :text="raw ? message.message!.raw! : message.decoded!"
          label="the message"
          :other="raw ? undefined : other"
        />
        <template v-if="message.opened"
          ><h3>
            {{ message.message!.raw!.startsWith("<") ? "What was encrypted" : "The signed token in it, taken apart" }}
          </h3>
          <MessageText :text="message.opened" label="the opened part" />
        </template>
      </template>
      <p v-else class="soft">The message holds personal values, which your role does not see.</p>
    </template>
    <template v-else-if="step">
      <h2>
        {{ step.step }} <span class="soft small">{{ stepWords[step.step] }}</span>
      </h2>
      <ul>
        <li v-if="heldBefore" class="held">
          <span></span>
          <ElButton link type="primary" @click="whole = true">{{ heldBefore }} checks held</ElButton>
        </li>
        <li v-for="(e, i) in entries" :key="i" :class="{ bad: e.failure || (e.check && !e.check.ok) }">
          <template v-if="e.check">
            <span class="mark"
              >{{ e.check.ok ? "✓" : "✕"
              }}<span class="visually-hidden">{{ e.check.ok ? "held" : "did not hold" }}</span></span
            >
            <span
              >{{ e.check.text }}<br /><span v-if="e.check.got" class="mono soft">{{ e.check.got }}</span
              ><span v-if="!e.check.ok && e.check.expected" class="mono"><br />expected {{ e.check.expected }}</span
              ><span class="sec">{{ e.check.section }}</span></span
            >
          </template>
          <template v-else-if="e.value">
            <span class="mark soft">→</span>
            <span
              ><b class="mono">{{ e.value.rule }}</b> <span class="soft">from</span>
              <span class="mono">{{ e.value.from || "a fixed value" }}</span><br />
              <span class="mono">{{ (e.value.input ?? []).join(", ") || "nothing came" }}</span>
              <template v-for="s in e.value.steps ?? []" :key="s.step"
                ><br /><span class="step">{{ s.step }}</span>
                <span class="mono">{{ (s.values ?? []).join(", ") || "nothing left" }}</span></template
              >
              <template v-if="e.value.withheld"
                ><br /><span class="tag attention">not sent</span>
                <span class="soft">{{ e.value.withheld }}</span></template
              ></span
            >
          </template>
          <template v-else-if="e.decision"
            ><span class="mark soft">•</span
            ><span
              >{{ e.decision.about }}: <b>{{ e.decision.result }}</b><br /><span class="soft">{{ e.decision.by }}</span
              ><template v-for="p in e.decision.passed ?? []" :key="p"
                ><br /><span class="soft">passed over: {{ p }}</span></template
              ></span
            ></template
          >
          <template v-else-if="e.failure"
            ><span class="mark">✕</span><span class="mono">{{ e.failure.code }}</span></template
          >
        </li>
      </ul>
    </template>
    <p v-else class="soft">Choose a message or a step on the left.</p>
  </section>
</template>

<style scoped>
.pin {
  float: right;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
}
li {
  display: grid;
  grid-template-columns: 22px minmax(0, 1fr);
  gap: 6px;
  padding: 7px 0;
  border-bottom: 1px solid var(--hair);
  font-size: 14px;
  overflow-wrap: anywhere;
}
li.bad {
  background: var(--rust-tint);
  margin: 0 -18px;
  padding: 7px 18px;
}
.mark {
  color: var(--moss);
  font-weight: 700;
}
.bad .mark {
  color: var(--rust);
}
.sec {
  display: block;
  color: var(--soft);
  font-size: 13px;
}
.step {
  display: inline-block;
  background: var(--sea-tint);
  border-radius: 3px;
  padding: 0 7px;
  font-size: 13px;
}
</style>
