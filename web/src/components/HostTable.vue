<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { http, ok } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import TimeText from "./TimeText.vue";

// The hosts of partners as the gate sees them from outside.
defineProps<{ engineer: boolean }>();
const { data, error: loadError, again } = useLoad(() => ok(http.GET("/outside")));
const { error: actError, busy, act } = useAct();
const error = computed(() => actError.value || loadError.value);
const look = (origin: string) =>
  act(async () => {
    data.value = await ok(http.POST("/outside/look", { body: { origin } }));
  });
defineExpose({ again });
</script>

<template>
  <section>
    <h2>Partners' hosts</h2>
    <p class="soft">
      Every six hours the gate asks each host of an open partner for its first page: whether it answers, what its clock
      says, and until when its TLS certificate is good.
    </p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <ElTable v-if="data?.items.length" table-layout="auto" :data="data.items" row-key="origin">
      <ElTableColumn label="Host">
        <template #default="{ row: h }">
          <span class="mono">{{ h.origin }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Of">
        <template #default="{ row: h }">
          <RouterLink v-for="u in h.usedBy" :key="u.kind + u.slug" class="of" :to="`/${u.kind}s/${u.slug}`">{{
            u.name
          }}</RouterLink>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Answer">
        <template #default="{ row: h }">{{ !h.looked ? "not yet" : h.error || `${h.millis} ms` }}</template>
      </ElTableColumn>
      <ElTableColumn label="Clock">
        <template #default="{ row: h }">{{
          h.skewSeconds === undefined
            ? "–"
            : Math.abs(h.skewSeconds) < 2
              ? "as ours"
              : `${h.skewSeconds > 0 ? "+" : ""}${h.skewSeconds} s`
        }}</template>
      </ElTableColumn>
      <ElTableColumn label="TLS certificate">
        <template #default="{ row: h }">
          <template v-if="h.certEnds">ends <TimeText :at="h.certEnds" from /></template><template v-else>–</template>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Looked at">
        <template #default="{ row: h }">
          <TimeText :at="h.looked" from />
        </template>
      </ElTableColumn>
      <ElTableColumn>
        <template #header>
          <span class="visually-hidden">Acts</span>
        </template>
        <template #default="{ row: h }">
          <ElButton v-if="engineer" size="small" :loading="busy" @click="look(h.origin)">Look now</ElButton>
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else class="soft">No partner that is open has a host.</p>
  </section>
</template>

<style scoped>
.of {
  margin-right: 8px;
}
section {
  margin-top: 26px;
}
</style>
