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
  <table v-if="sessions.length" class="list">
    <thead>
      <tr>
        <th v-if="person" scope="col">Person</th>
        <th scope="col">Device and address</th>
        <th scope="col">Signed in through</th>
        <th scope="col">Went to</th>
        <th scope="col">Last used</th>
        <th scope="col">State</th>
        <th v-if="!readonly" scope="col"><span class="visually-hidden">Acts</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="s in sessions" :key="s.id">
        <td v-if="person">
          <RouterLink v-if="s.personId" :to="`/people/${s.personId}`">{{ s.person }}</RouterLink
          ><template v-else>{{ s.person }}</template>
        </td>
        <td>
          {{ s.device }}<br /><span class="mono soft small">{{ s.address }}</span>
        </td>
        <td>
          <div v-for="p in s.providers" :key="p.name">
            <RouterLink v-if="p.slug" :to="`/providers/${p.slug}`">{{ p.name }}</RouterLink
            ><template v-else>{{ p.name }}</template
            ><br /><span class="soft small"
              ><TimeText :at="p.at" from />, {{ p.strength === "two" ? "two factors" : "one factor" }}</span
            >
          </div>
        </td>
        <td>
          <div v-for="a in s.applications" :key="a.name">
            <RouterLink v-if="a.slug" :to="`/applications/${a.slug}`">{{ a.name }}</RouterLink
            ><template v-else>{{ a.name }}</template> <span v-if="a.told" class="soft small">{{ told[a.told] }}</span>
          </div>
        </td>
        <td><TimeText :at="s.lastUsed" from /></td>
        <td>
          <template v-if="s.ended"
            >ended <TimeText :at="s.ended" from /><br /><span class="soft small">{{ s.endedBy }}</span></template
          ><template v-else>open until <TimeText :at="s.ends" /></template>
        </td>
        <td v-if="!readonly">
          <ElButton v-if="!s.ended" size="small" type="danger" :loading="busy" @click="$emit('end', s)"
            >End it</ElButton
          >
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else class="soft">{{ empty }}</p>
</template>
