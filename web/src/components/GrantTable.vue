<script setup lang="ts">
import { ElButton } from "element-plus";
import type { Grant, ProviderConfig } from "../api/client";
import { list } from "../composables/circle";
import type { Choice } from "../composables/choices";
import { useEditing, useRows } from "../composables/edits";

defineProps<{ types: Choice[] }>();
const { draft, readonly } = useEditing<ProviderConfig>();
const grants = useRows(
  () => draft.value.grants,
  () =>
    (draft.value.grants ?? []).map((g) => ({
      attribute: g.attribute ?? "",
      value: g.value ?? "",
      condition: g.if ?? "",
      groups: (g.groups ?? []).join(", "),
      type: g.type ?? "",
    })),
  (rows) =>
    (draft.value.grants = rows.map((g): Grant => ({
      attribute: g.attribute.trim() || undefined,
      value: g.value.trim() || undefined,
      if: g.condition.trim() || undefined,
      groups: list(g.groups),
      type: g.type || undefined,
    }))),
);
</script>

<template>
  <h3>Groups and type at each sign-in</h3>
  <p class="soft small">
    For known people too. What this provider gave goes when its claim goes; what was given by hand stays.
  </p>
  <ElTable v-if="grants.length" table-layout="auto" :data="grants">
    <ElTableColumn label="Attribute">
      <template #default="{ row: g, $index: i }">
        <ElInput v-model="g.attribute" class="mono" :disabled="readonly" :aria-label="`Attribute of grant ${i + 1}`" />
      </template>
    </ElTableColumn>
    <ElTableColumn label="has the value">
      <template #default="{ row: g, $index: i }">
        <ElInput v-model="g.value" class="mono" :disabled="readonly" :aria-label="`Value of grant ${i + 1}`" />
      </template>
    </ElTableColumn>
    <ElTableColumn label="or this holds">
      <template #default="{ row: g, $index: i }">
        <ElInput v-model="g.condition" class="mono" :disabled="readonly" :aria-label="`Condition of grant ${i + 1}`" />
      </template>
    </ElTableColumn>
    <ElTableColumn label="Groups">
      <template #default="{ row: g, $index: i }">
        <ElInput v-model="g.groups" class="mono" :disabled="readonly" :aria-label="`Groups of grant ${i + 1}`" />
      </template>
    </ElTableColumn>
    <ElTableColumn label="Type">
      <template #default="{ row: g, $index: i }">
        <ElSelect v-model="g.type" :disabled="readonly" :aria-label="`Type of grant ${i + 1}`">
          <ElOption value="" label="as it is" />
          <ElOption v-for="[v, t] in types" :key="v" :value="v" :label="t" />
        </ElSelect>
      </template>
    </ElTableColumn>
    <ElTableColumn>
      <template #header>
        <span class="visually-hidden">Acts</span>
      </template>
      <template #default="{ $index: i }">
        <ElButton
          v-if="!readonly"
          text
          size="small"
          :aria-label="`Take grant ${i + 1} away`"
          @click="grants.splice(i, 1)"
          >✕</ElButton
        >
      </template>
    </ElTableColumn>
  </ElTable>
  <ElButton
    v-if="!readonly"
    size="small"
    @click="grants.push({ attribute: 'groups', value: '', condition: '', groups: '', type: '' })"
    >Add a grant</ElButton
  >
</template>

<style scoped>
.line {
  display: flex;
  gap: 6px;
  margin-bottom: 6px;
}
h3 {
  margin: 18px 0 4px;
}
</style>
