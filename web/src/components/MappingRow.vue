<script setup lang="ts">
import { ElButton } from "element-plus";
import type { RuleSet } from "../api/client";
import type { Row } from "../composables/mapping";
import NameInput from "./NameInput.vue";
import RuleSource from "./RuleSource.vue";
import StepChips from "./StepChips.vue";

// One rule with what it makes of the sample. It is a component of its own, so that a letter draws one row and no other.
const props = defineProps<{
  number: number;
  openid?: boolean;
  sets: RuleSet[];
  sources: () => string[];
  targets: () => string[];
  /** What the rule makes of the sample, in words; undefined where there is no sample. */
  makes?: string;
  problem?: string;
}>();
const row = defineModel<Row>({ required: true });
const emit = defineEmits<{ away: []; move: [by: number]; drag: [] }>();
function key(e: KeyboardEvent) {
  if (e.key !== "ArrowUp" && e.key !== "ArrowDown") return;
  e.preventDefault();
  emit("move", e.key === "ArrowUp" ? -1 : 1);
}
</script>

<template>
  <li class="rule">
    <ElButton
      text
      size="small"
      class="handle"
      draggable="true"
      :aria-label="`Move rule ${number}: arrow up, arrow down`"
      title="Drag it, or use the arrow keys"
      @keydown="key"
      @dragstart="emit('drag')"
      >⠿</ElButton
    >
    <div>
      <NameInput v-if="row.kind !== 'use'" v-model="row.set" :names="targets" :label="`Name of rule ${number}`" />
      <span v-if="row.rest.friendlyName" class="soft small">{{ row.rest.friendlyName }}</span>
    </div>
    <RuleSource v-model="row" :number="number" :sets="sets" :names="sources" />
    <StepChips v-if="row.kind !== 'use'" v-model="row.steps" :of="`rule ${number}`" />
    <span v-else></span>
    <template v-if="props.openid">
      <ElSelect v-if="row.kind !== 'use'" v-model="row.place" :aria-label="`Place of rule ${number}`">
        <ElOption value="" label="as usual" />
        <ElOption value="id_token" label="ID token" />
        <ElOption value="userinfo" label="UserInfo" />
        <ElOption value="both" label="both" />
      </ElSelect>
      <span v-else></span>
    </template>
    <ElCheckbox v-if="row.kind !== 'use'" v-model="row.required" :aria-label="`Rule ${number} must have a value`"
      ><span class="narrow" aria-hidden="true">must have a value</span></ElCheckbox
    >
    <span v-else></span>
    <div class="makes small">
      <span v-if="problem" class="bad" role="alert">{{ problem }}</span>
      <span v-else-if="makes" class="mono">{{ makes }}</span>
      <span v-else-if="makes !== undefined" class="soft">nothing</span>
    </div>
    <ElButton text size="small" :aria-label="`Take rule ${number} away`" @click="emit('away')">✕</ElButton>
  </li>
</template>

<style scoped>
.rule {
  display: grid;
  grid-column: 1 / -1;
  grid-template-columns: subgrid;
  align-items: start;
  padding: 6px 0;
  border-top: 1px solid var(--hair);
}
.rule > div {
  min-width: 0;
}
.handle {
  cursor: grab;
  padding: 0 4px;
  min-width: 26px;
}
.makes {
  align-self: stretch;
  background: var(--well);
  padding: 5px 10px;
  overflow-wrap: anywhere;
}
.narrow {
  display: none;
}
.bad {
  color: var(--rust);
}
@container (max-width: 860px) {
  .rule {
    grid-template-columns: 34px minmax(0, 1fr) 40px;
  }
  .rule > :not(.handle, :last-child) {
    grid-column: 2;
  }
  .rule > :last-child {
    grid-column: 3;
    grid-row: 1;
  }
  .narrow {
    display: inline;
  }
}
</style>
