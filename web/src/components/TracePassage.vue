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
            ><b>{{ l.step }}</b>
            <span class="soft">{{ trace.outcome === "open" ? "not reached yet" : "not reached" }}</span></span
          ></span
        >
      </li>
    </ol>
  </section>
</template>

<style scoped>
.lanes {
  background: var(--card);
  border: 1px solid var(--rule);
  border-radius: 4px;
  padding: 14px 14px 20px;
}
.heads,
li {
  display: grid;
  grid-template-columns: 66px 1fr 250px 1fr;
}
.heads {
  text-align: center;
  font-size: 14px;
}
.heads b:nth-child(3) {
  align-self: end;
}
ol {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
  position: relative;
}
ol::before {
  content: "";
  position: absolute;
  left: 66px;
  right: 0;
  top: 0;
  bottom: 0;
  pointer-events: none;
  display: block;
}
li {
  align-items: stretch;
}
.at {
  font-size: 13px;
  color: var(--soft);
  align-self: center;
}
button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  cursor: pointer;
  padding: 0;
}
/* The gate is the middle lane: an arch that runs down. */
li::after {
  content: "";
  grid-column: 3;
  grid-row: 1;
  border-left: 2px solid var(--ink);
  border-right: 2px solid var(--ink);
  background: color-mix(in srgb, var(--sea) 5%, var(--card));
}
li:first-child::after {
  border-top: 2px solid var(--ink);
  border-radius: 125px 125px 0 0 / 46px 46px 0 0;
  min-height: 64px;
}
li:last-child::after {
  border-bottom: 5px solid var(--ink);
}
.at,
.arrow,
.stop,
.away {
  grid-row: 1;
  position: relative;
  z-index: 1;
}
.arrow {
  padding: 6px 0;
  display: grid;
  align-content: center;
  min-height: 58px;
  font-size: 14px;
}
.arrow.left {
  grid-column: 2;
}
.arrow.right {
  grid-column: 4;
}
.arrow .how {
  font-family: var(--mono);
  font-size: 12.5px;
  color: var(--soft);
  padding: 0 14px;
}
.shaft {
  position: relative;
  display: block;
  height: 12px;
}
.shaft::before {
  content: "";
  position: absolute;
  left: 0;
  right: 0;
  top: 5px;
  border-top: 2px solid var(--ink);
}
.shaft::after {
  content: "";
  position: absolute;
  top: 0;
  border: 6px solid transparent;
}
.left.in .shaft::after,
.right.out .shaft::after {
  right: 0;
  border-left: 10px solid var(--ink);
  border-right: 0;
}
.left.out .shaft::after,
.right.in .shaft::after {
  left: 0;
  border-right: 10px solid var(--ink);
  border-left: 0;
}
.arrow.bad .shaft::before {
  border-top: 2px dashed var(--rust-line);
}
.arrow.bad .shaft::after {
  border-left-color: var(--rust-line);
  border-right-color: var(--rust-line);
}
.arrow.bad .name {
  color: var(--rust);
}
.arrow.on .name,
.arrow:hover .name {
  text-decoration: underline;
  text-decoration-thickness: 2px;
  text-underline-offset: 3px;
}
.stop {
  grid-column: 3;
  display: flex;
  gap: 10px;
  text-align: left;
  padding: 9px 12px;
  align-items: flex-start;
  line-height: 1.35;
  font-size: 14px;
}
.stop.on {
  background: color-mix(in srgb, var(--sea-tint) 80%, transparent);
  box-shadow: inset 3px 0 0 var(--sea);
}
.dot {
  flex: none;
  width: 22px;
  height: 22px;
  border-radius: 50%;
  border: 2px solid var(--moss-line);
  background: var(--moss-tint);
  color: var(--moss);
  display: grid;
  place-items: center;
  font-size: 12px;
  font-weight: 700;
}
.stop.bad .dot {
  width: 28px;
  height: 28px;
  border-color: var(--rust-line);
  background: var(--rust-tint);
  color: var(--rust);
  font-size: 15px;
}
.stop.bad b {
  color: var(--rust);
}
.stop.none b {
  font-weight: 400;
}
.none .dot {
  border: 2px dashed var(--soft);
  background: none;
}
.away {
  grid-column: 4;
  justify-self: center;
  border: 1px solid var(--rule);
  background: var(--paper);
  border-radius: 3px;
  padding: 6px 14px;
  margin: 8px 0;
  text-align: center;
  font-size: 13.5px;
}
@media (max-width: 760px) {
  .heads,
  li {
    grid-template-columns: 54px 1fr 170px 1fr;
  }
  .arrow .how {
    display: none;
  }
}
</style>
