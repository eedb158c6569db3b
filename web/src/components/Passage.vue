<script setup lang="ts">
import type { Station } from "../api/client";

export type End = { title: string; lines: string[]; to?: string; name?: string };
defineProps<{ application: End | null; providers: End[]; stations: Station[]; active: string; through?: string }>();
const emit = defineEmits<{ choose: [name: string]; through: [name: string] }>();
const most = 6; // providers that are named
const marks: Record<string, [string, string]> = {
  sound: ["✓", "sound"],
  attention: ["!", "needs attention"],
  broken: ["✕", "broken"],
  empty: ["·", "empty"],
};
</script>

<template>
  <section class="passage" aria-label="The passage: application, gate, provider">
    <div class="end">
      <template v-if="application"
        ><h2>
          <RouterLink v-if="application.to" :to="application.to">{{ application.title }}</RouterLink><template v-else>{{
            application.title
          }}</template>
        </h2>
        <p v-for="(l, i) in application.lines" :key="l" :class="{ mono: i === 0 }">{{ l }}</p></template
      >
      <slot name="applications" />
    </div>
    <div class="gate">
      <div class="arch" aria-hidden="true"></div>
      <button
        v-for="s in stations"
        :key="s.name"
        type="button"
        class="station"
        :class="[s.state, { on: s.name === active }]"
        :aria-pressed="s.name === active"
        @click="emit('choose', s.name)"
      >
        <span class="n">{{ s.title }}</span>
        <span class="dot"
          ><span aria-hidden="true">{{ marks[s.state]?.[0] }}</span
          ><span class="visually-hidden">{{ marks[s.state]?.[1] }}</span></span
        >
        <span class="v"
          ><span v-for="l in s.lines" :key="l">{{ l }}</span></span
        >
      </button>
    </div>
    <div class="end">
      <template v-for="p in providers.slice(0, most)" :key="p.name ?? p.title">
        <template v-if="providers.length === 1 || p.name === through">
          <h2>
            <RouterLink v-if="p.to" :to="p.to">{{ p.title }}</RouterLink><template v-else>{{ p.title }}</template>
          </h2>
          <p v-for="(l, n) in p.lines" :key="l" :class="{ mono: n === 0 }">{{ l }}</p>
        </template>
        <p v-else>
          <ElButton
            link
            type="primary"
            :aria-label="`Show the way through ${p.title}`"
            @click="emit('through', p.name!)"
          >
            {{ p.title }}
          </ElButton>
        </p>
      </template>
      <p v-if="providers.length > most" class="soft small">and {{ providers.length - most }} more</p>
      <p v-if="!providers.length && application" class="soft">No provider yet</p>
    </div>
  </section>
</template>

<style scoped>
.passage {
  display: grid;
  grid-template-columns: minmax(150px, 200px) minmax(0, 1fr) minmax(150px, 200px);
  margin: 14px 0 20px;
}
.end {
  padding: 14px 16px;
  border: 1px solid var(--rule);
  background: var(--card);
  border-radius: 4px;
  align-self: center;
}
.end h2,
.end p:has(a, button) {
  line-height: 24px;
}
.end h2 {
  font-size: 16px;
  margin: 0;
}
.end h2 a {
  display: inline-block;
  min-height: 24px;
  color: var(--ink);
  text-decoration-color: var(--rule);
}
.end p {
  margin: 3px 0 0;
  color: var(--soft);
  font-size: 13px;
}
.gate {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(0, 1fr));
  grid-auto-flow: column;
  grid-auto-columns: minmax(0, 1fr);
  position: relative;
  padding: 0 20px;
}
.gate::before {
  content: "";
  position: absolute;
  left: 0;
  right: 0;
  top: 50%;
  border-top: 2px solid var(--ink);
}
.arch {
  position: absolute;
  inset: 0 20px;
  border: 2px solid var(--ink);
  border-bottom-width: 6px;
  border-radius: 90px 90px 0 0/46px 46px 0 0;
  background: color-mix(in srgb, var(--sea) 5%, var(--paper));
}
.station {
  position: relative;
  display: flex;
  flex-direction: column;
  align-items: center;
  justify-content: space-between;
  min-height: 168px;
  padding: 28px 6px 16px;
  background: none;
  border: 0;
  color: inherit;
  cursor: pointer;
}
.station::before {
  content: "";
  position: absolute;
  left: 0;
  right: 0;
  top: 50%;
  border-top: 2px solid var(--ink);
}
.n {
  font-weight: 700;
  font-size: 14px;
  border-bottom: 3px solid transparent;
}
.on .n {
  color: var(--sea);
  border-color: var(--brass-line);
}
.station:hover .n {
  color: var(--sea);
}
.dot {
  position: absolute;
  top: calc(50% - 14px);
  width: 28px;
  height: 28px;
  border-radius: 50%;
  border: 2px solid var(--moss-line);
  background: var(--moss-tint);
  color: var(--moss);
  display: grid;
  place-items: center;
  font-weight: 700;
}
.attention .dot {
  border-color: var(--brass-line);
  background: var(--brass-tint);
  color: var(--brass);
}
.broken .dot {
  border-color: var(--rust-line);
  background: var(--rust-tint);
  color: var(--rust);
}
.empty .dot {
  border-color: var(--soft);
  background: var(--paper);
  color: var(--soft);
  border-style: dashed;
}
.empty {
  padding-left: 4px;
  padding-right: 4px;
  text-align: center;
  color: inherit;
}
.v {
  font-size: 13px;
  color: var(--soft);
  line-height: 1.3;
  min-height: 50px;
  display: flex;
  flex-direction: column;
  text-align: center;
  overflow-wrap: anywhere;
}
@media (max-width: 980px) {
  .passage {
    grid-template-columns: 1fr;
    gap: 10px;
  }
  .gate {
    padding: 0;
  }
  .arch {
    inset: 0;
  }
}

/* On a phone the passage runs down. */
@media (max-width: 620px) {
  .gate {
    grid-auto-flow: row;
    grid-template-columns: 1fr;
    padding: 24px 12px 12px;
  }
  .gate::before,
  .station::before {
    display: none;
  }
  .station {
    display: grid;
    grid-template-columns: 36px 7rem 1fr;
    gap: 8px;
    justify-items: start;
    min-height: 44px;
    padding: 6px 0;
  }
  .dot {
    position: static;
    order: -1;
  }
  .v {
    height: auto;
    text-align: left;
  }
}
</style>
