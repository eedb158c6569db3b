<script setup lang="ts">
import { ref } from "vue";
import { http, ok, type PersonLine } from "../api/client";

/** One person, found by how the name, mail address or user name begins. The value is the person's ID. */
defineProps<{ label: string; hint?: string }>();
const value = defineModel<string>();
const found = ref<PersonLine[]>([]);
const busy = ref(false);
let turn = 0;
async function find(text: string) {
  const mine = ++turn;
  if (!text.trim()) {
    found.value = [];
    return;
  }
  busy.value = true;
  const got = await ok(http.GET("/people", { params: { query: { search: text, limit: 8 } } })).catch(() => null);
  if (mine !== turn) return;
  busy.value = false;
  found.value = got?.items ?? [];
}
defineExpose({ clear: () => (value.value = "") });
</script>

<template>
  <ElFormItem :label="label">
    <ElSelect
      v-model="value"
      :empty-values="['', null, undefined]"
      filterable
      remote
      clearable
      :remote-method="find"
      :loading="busy"
      :placeholder="hint ?? 'How the name, mail address or user name begins'"
      no-data-text="Nobody's name begins so."
    >
      <ElOption v-for="p in found" :key="p.id" :value="p.id" :label="p.name + (p.email ? ` (${p.email})` : '')">
        <b>{{ p.name }}</b>
        <span class="soft">
          {{ p.email || p.username }} · {{ p.type }}<template v-if="!p.active"> · not active</template></span
        >
      </ElOption>
    </ElSelect>
  </ElFormItem>
</template>
