<script setup lang="ts">
import type { CertificateDetail } from "../api/client";
import TimeText from "./TimeText.vue";

defineProps<{ certificates: CertificateDetail[] }>();
</script>

<template>
  <table v-if="certificates.length" class="list">
    <thead>
      <tr>
        <th scope="col">Certificate</th>
        <th scope="col">For</th>
        <th scope="col">Key</th>
        <th scope="col">Ends</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in certificates" :key="c.sha256 + c.use">
        <td>
          {{ c.subject }}<br /><span class="mono soft">{{ c.sha256 }}</span>
        </td>
        <td>{{ c.use || "any use" }}</td>
        <td>{{ c.key }}</td>
        <td>
          <TimeText :at="c.notAfter" /><br /><span class="soft"><TimeText :at="c.notAfter" from /></span>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else class="soft">No certificate is held yet.</p>
</template>
