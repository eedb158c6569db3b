<script setup lang="ts">
import { ElButton } from "element-plus";
import type { Session } from "../api/client";
import TimeText from "./TimeText.vue";

defineProps<{ sessions: Session[]; busy: boolean; empty: string; person?: boolean; readonly?: boolean }>();
defineEmits<{ end: [session: Session] }>();
const told: Record<string, string> = {
  told: "told",
  failed: "not reached",
  browser: "told by the browser only",
  nothing: "takes no word of it",
};
</script>

<template>
  <ElTable v-if="sessions.length" table-layout="auto" :data="sessions" row-key="id">
    <ElTableColumn v-if="person" label="Person">
      <template #default="{ row: s }">
        <RouterLink v-if="s.personId" :to="`/people/${s.personId}`">{{ s.person }}</RouterLink><template v-else>{{
          s.person
        }}</template>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Device and address">
      <template #default="{ row: s }"
        >{{ s.device }}<br /><span class="mono soft small">{{ s.address }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Signed in through">
      <template #default="{ row: s }">
        <div v-for="p in s.providers" :key="p.name">
          <RouterLink v-if="p.slug" :to="`/providers/${p.slug}`">{{ p.name }}</RouterLink><template v-else>{{
            p.name
          }}</template
          ><br /><span class="soft small"
            ><TimeText :at="p.at" from />, {{ p.strength === "two" ? "two factors" : "one factor" }}</span
          >
        </div>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Went to">
      <template #default="{ row: s }">
        <div v-for="a in s.applications" :key="a.name">
          <RouterLink v-if="a.slug" :to="`/applications/${a.slug}`">{{ a.name }}</RouterLink><template v-else>{{
            a.name
          }}</template>
          <span v-if="a.told" class="soft small">{{ told[a.told] }}</span>
        </div>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Last used">
      <template #default="{ row: s }">
        <TimeText :at="s.lastUsed" from />
      </template>
    </ElTableColumn>
    <ElTableColumn label="State">
      <template #default="{ row: s }">
        <template v-if="s.ended"
          >ended <TimeText :at="s.ended" from /><br /><span class="soft small">{{ s.endedBy }}</span></template
        ><template v-else>open until <TimeText :at="s.ends" /></template>
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="!readonly">
      <template #header>
        <span class="visually-hidden">Acts</span>
      </template>
      <template #default="{ row: s }">
        <ElButton v-if="!s.ended" size="small" type="danger" :loading="busy" @click="$emit('end', s as Session)"
          >End it</ElButton
        >
      </template>
    </ElTableColumn>
  </ElTable>
  <p v-else class="soft">{{ empty }}</p>
</template>
