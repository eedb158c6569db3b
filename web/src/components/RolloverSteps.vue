<script setup lang="ts">
import { computed } from "vue";

// The steps in which a key is replaced, and which of them it is at.
const props = defineProps<{ token: boolean; order: number }>();
const steps = computed(() =>
  props.token
    ? [
        { id: "make", title: "Make the next key", text: "Nobody learns of it yet." },
        { id: "publish", title: "Publish both", text: "Our key set holds the next key beside the one in use." },
        {
          id: "wait",
          title: "Give them time",
          text: "Partners fetch the key set by themselves, at the latest when a token names a key that they do not hold.",
        },
        { id: "switch", title: "Switch", text: "At once, or at a time." },
        { id: "keep", title: "Keep the old one, then retire it", text: "Until the last token that it signed is over." },
      ]
    : [
        { id: "make", title: "Make the next key", text: "Nobody learns of it yet." },
        {
          id: "publish",
          title: "Publish both",
          text: "Our metadata holds the next certificate beside the one in use.",
        },
        { id: "wait", title: "See who has it", text: "Fetched by themselves, or confirmed by hand." },
        { id: "switch", title: "Switch", text: "At once, or at a time." },
        { id: "keep", title: "Keep the old one, then retire it", text: "Until then everything can be taken back." },
      ],
);
</script>

<template>
  <ol class="steps" aria-label="Steps of the replacement">
    <li
      v-for="(s, i) in steps"
      :key="s.id"
      :class="{ done: i < order, now: i === order }"
      :aria-current="i === order ? 'step' : undefined"
    >
      <b
        ><span aria-hidden="true">{{ i < order ? "✓" : i + 1 }}</span> {{ s.title }}</b
      ><span>{{ s.text }}</span>
    </li>
  </ol>
</template>

<style scoped>
.steps {
  list-style: none;
  padding: 0;
  margin: 0 0 14px;
  display: grid;
  grid-template-columns: repeat(5, minmax(0, 1fr));
  border: 1px solid var(--rule);
  border-radius: 4px;
}
.steps li {
  padding: 9px 12px;
  border-right: 1px solid var(--hair);
  font-size: 14px;
}
.steps li:last-child {
  border: 0;
}
.steps span {
  display: block;
  color: var(--soft);
  font-size: 13px;
}
.steps b span {
  display: inline;
  color: inherit;
  font-size: inherit;
}
.steps .done b {
  color: var(--moss);
}
.steps .now {
  box-shadow: inset 0 -3px 0 var(--brass-line);
}
@media (max-width: 900px) {
  .steps {
    grid-template-columns: 1fr 1fr;
  }
}
</style>
