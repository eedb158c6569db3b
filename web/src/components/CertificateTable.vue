<script setup lang="ts">
import type { CertificateDetail } from "../api/client";
import TimeText from "./TimeText.vue";

defineProps<{ certificates: CertificateDetail[] }>();
</script>

<template>
  <ElTable v-if="certificates.length" table-layout="auto" :data="certificates">
    <ElTableColumn label="Certificate">
      <template #default="{ row: c }"
        >{{ c.subject }}<br /><span class="mono soft">{{ c.sha256 }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="For">
      <template #default="{ row: c }">{{ c.use || "any use" }}</template>
    </ElTableColumn>
    <ElTableColumn label="Key">
      <template #default="{ row: c }">{{ c.key }}</template>
    </ElTableColumn>
    <ElTableColumn label="Ends">
      <template #default="{ row: c }">
        <TimeText :at="c.notAfter" /><br /><span class="soft"><TimeText :at="c.notAfter" from /></span>
      </template>
    </ElTableColumn>
  </ElTable>
  <p v-else class="soft">No certificate is held yet.</p>
</template>
