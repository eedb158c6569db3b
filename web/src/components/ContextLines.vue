<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type ProviderConfig } from "../api/client";
import { useLoad } from "../composables/load";
import { shortName } from "../composables/text";

type Line = NonNullable<ProviderConfig["contexts"]>[number];
defineProps<{ readonly?: boolean; methods?: boolean }>();
const lines = defineModel<Line[]>({ required: true });
const { data: tables } = useLoad(() => ok(http.GET("/context-tables")));
const chosen = ref("");

/** Puts a table for a usual kind of provider in place of what is there. */
function take(name: string) {
  const table = tables.value?.items.find((t) => t.name === name);
  if (table) lines.value = JSON.parse(JSON.stringify(table.lines));
}
const methodsOf = (line: Line) => (line.amr ?? []).join(" ");
function setMethods(line: Line, text: string) {
  const list = text.split(/[\s,]+/).filter(Boolean);
  line.amr = list.length ? list : undefined;
}
const add = () => (lines.value = [...lines.value, { means: "" }]);
const remove = (i: number) => (lines.value = lines.value.filter((_, n) => n !== i));
const known = computed(() => [
  ...new Set(
    (tables.value?.items ?? [])
      .flatMap((t) => t.lines.map((l) => l.means))
      .concat(lines.value.map((l) => l.means).filter(Boolean)),
  ),
]);
</script>

<template>
  <ElSelect
    v-if="!readonly"
    v-model="chosen"
    class="usual"
    :empty-values="['', null, undefined]"
    placeholder="Take a table for a usual kind of provider"
    aria-label="Usual tables"
    @change="take"
  >
    <ElOption v-for="t in tables?.items ?? []" :key="t.name" :value="t.name" :label="t.name" />
  </ElSelect>
  <ElTable v-if="lines.length" table-layout="auto" :data="lines">
    <ElTableColumn label="It says">
      <template #default="{ row: l, $index: i }">
        <ElInput
          v-model="l.says"
          placeholder="anything, or nothing"
          :disabled="readonly"
          :aria-label="`What it says, line ${i + 1}`"
        />
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="methods" label="and amr holds">
      <template #default="{ row: l, $index: i }">
        <ElInput
          :model-value="methodsOf(l as Line)"
          placeholder="–"
          :disabled="readonly"
          :aria-label="`amr, line ${i + 1}`"
          @update:model-value="(v: string) => setMethods(l as Line, v)"
        />
      </template>
    </ElTableColumn>
    <ElTableColumn label="Stands for">
      <template #default="{ row: l, $index: i }">
        <ElSelect
          v-model="l.means"
          filterable
          allow-create
          default-first-option
          :disabled="readonly"
          :aria-label="`What it stands for, line ${i + 1}`"
        >
          <ElOption v-for="k in known" :key="k" :value="k" :label="shortName(k)" />
        </ElSelect>
      </template>
    </ElTableColumn>
    <ElTableColumn>
      <template #header>
        <span class="visually-hidden">Acts</span>
      </template>
      <template #default="{ $index: i }">
        <ElButton v-if="!readonly" size="small" :aria-label="`Take line ${i + 1} away`" @click="remove(i)">✕</ElButton>
      </template>
    </ElTableColumn>
  </ElTable>
  <p>
    <ElButton v-if="!readonly" size="small" @click="add">Add a line</ElButton>
  </p>
</template>

<style scoped>
.usual {
  max-width: 30rem;
  margin-bottom: 8px;
}
</style>
