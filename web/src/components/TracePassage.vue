<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import type { Trace } from "../api/client";
import { duration } from "../composables/text";
import { foldHeld, lines, stepWords, summary, type Line } from "../composables/trace";

const props = defineProps<{ trace: Trace; chosen: number }>();
const emit = defineEmits<{ choose: [index: number] }>();
const opened = ref(new Set<number>());
const all = computed(() => foldHeld(lines(props.trace), props.chosen, opened.value));
const open = (from: number) => (opened.value = new Set([...opened.value, from]));
const side = (l: Extract<Line, { kind: "message" }>) => {
  const m = l.entry.message!;
  return [m.from, m.to].includes("provider") ? "right" : "left";
};
const inward = (l: Extract<Line, { kind: "message" }>) => l.entry.message!.to === "gate";
</script>

<template>
  <section class="lanes" aria-label="The sign-in, from top to bottom">
    <div class="heads">
      <span></span><b>{{ trace.application || "Application" }}</b
      ><b>gate</b><b>{{ trace.provider || "Provider" }}</b>
    </div>
    <ol>
      <li v-for="(l, i) in all" :key="i">
        <span class="at">{{ "at" in l ? duration(l.at) : "" }}</span>
        <button
          v-if="l.kind === 'message'"
          type="button"
          class="arrow"
          :class="[side(l), inward(l) ? 'in' : 'out', { bad: l.bad, on: l.index === chosen }]"
          :aria-pressed="l.index === chosen"
          @click="emit('choose', l.index)"
        >
          <span class="name">{{ l.entry.message!.name }}</span>
          <span class="shaft" aria-hidden="true"></span>
          <span class="how"
            >{{ l.entry.message!.binding
            }}<template v-if="l.entry.message!.signature"> · {{ l.entry.message!.signature }}</template></span
          >
          <span class="visually-hidden">from {{ l.entry.message!.from }} to {{ l.entry.message!.to }}</span>
        </button>
        <button
          v-else-if="l.kind === 'step'"
          type="button"
          class="stop"
          :class="{ bad: l.bad, on: l.index === chosen }"
          :aria-pressed="l.index === chosen"
          @click="emit('choose', l.index)"
        >
          <span class="dot"
            ><span aria-hidden="true">{{ l.bad ? "✕" : "✓" }}</span
            ><span class="visually-hidden">{{ l.bad ? "failed" : "good" }}</span></span
          >
          <span
            ><b>{{ l.step }}</b> <span class="soft">{{ stepWords[l.step] }}</span><br /><span class="small soft">{{
              summary(l.entries)
            }}</span></span
          >
        </button>
        <span v-else-if="l.kind === 'held'" class="stop"
          ><ElButton link type="primary" @click="open(l.from)">{{ l.lines.length }} more that held</ElButton></span
        >
        <span v-else-if="l.kind === 'away'" class="away"
          >person at the provider<br /><span class="soft">{{ duration(l.micros) }}</span></span
        >
        <span v-else class="stop none"
          ><span class="dot"></span
          ><span
            ><b>{{ l.step }}</b
            >{{ " " }}<span class="soft">{{ trace.outcome === "open" ? "not reached yet" : "not reached" }}</span></span
          ></span
        >
      </li>
    </ol>
  </section>
</template>

<style scoped src="./TracePassage.css"></style>
