<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import type { Understood } from "../api/client";

// Which entity of a document with several is meant.
const props = defineProps<{ entities: Understood["entities"] }>();
const emit = defineEmits<{ choose: [entityId: string] }>();
const filter = ref("");
const most = 50;
const shown = computed(() => {
  const words = filter.value.toLowerCase();
  return props.entities.filter((e) => !words || `${e.displayName} ${e.entityId}`.toLowerCase().includes(words));
});
const sideWord = (role: string) => (role === "idp" ? "identity provider" : "service provider");
const rolesOf = (e: { roles: string[] }) => e.roles.map(sideWord).join(", ");
</script>

<template>
  <ElFormItem v-if="entities.length > 8" :label="`Find among ${entities.length}`">
    <ElInput v-model="filter" type="search" />
  </ElFormItem>
  <ElTable table-layout="auto" :data="shown.slice(0, most)" row-key="entityId" class="dense entities">
    <ElTableColumn label="Entity">
      <template #default="{ row: e }">
        <ElButton link type="primary" :disabled="!e.usable" @click="emit('choose', e.entityId)"
          ><b>{{ e.displayName || e.entityId }}</b></ElButton
        >
        <span class="mono second">{{ e.entityId }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Is">
      <template #default="{ row: e }">{{ rolesOf(e as { roles: string[] }) }}</template>
    </ElTableColumn>
  </ElTable>
</template>
