<script setup lang="ts">
import { ref, watch } from "vue";
import { http, ok, type PersonLine } from "../api/client";

defineProps<{ label: string; hint?: string }>();
const value = defineModel<string>();
const text = ref("");
const found = ref<PersonLine[]>([]);
const chosen = ref("");
let timer = 0;
watch(text, (t) => {
  clearTimeout(timer);
  if (t === chosen.value) return;
  value.value = "";
  if (!t.trim()) {
    found.value = [];
    return;
  }
  timer = window.setTimeout(async () => {
    found.value = (
      await ok(http.GET("/people", { params: { query: { search: t, limit: 8 } } })).catch(() => ({ items: [] }))
    ).items;
  }, 150);
});
function take(p: PersonLine) {
  chosen.value = text.value = p.name + (p.email ? ` (${p.email})` : "");
  value.value = p.id;
  found.value = [];
}
defineExpose({ clear: () => (text.value = "") });
</script>

<template>
  <div class="field pick">
    <label
      ><span>{{ label }}</span
      ><small>{{ hint ?? "How the name, mail address or user name begins." }}</small
      ><input v-model="text" type="search" autocomplete="off"
    /></label>
    <ul v-if="found.length">
      <li v-for="p in found" :key="p.id">
        <button type="button" @click="take(p)">
          <b>{{ p.name }}</b>
          <span class="soft"
            >{{ p.email || p.username }} · {{ p.type }}<template v-if="!p.active"> · not active</template></span
          >
        </button>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.pick {
  position: relative;
}
.pick span {
  font-size: 14px;
}
label > span {
  display: block;
  font-weight: 700;
  font-size: 14px;
  margin-bottom: 2px;
}
label > small {
  display: block;
  color: var(--soft);
  font-size: 13px;
  margin-bottom: 4px;
}
input {
  font: inherit;
  width: 100%;
  padding: 6px 10px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
  min-height: 34px;
}
ul {
  position: absolute;
  z-index: 5;
  left: 0;
  right: 0;
  margin: 2px 0 0;
  padding: 4px;
  list-style: none;
  background: var(--card);
  border: 1px solid var(--rule);
  border-radius: 4px;
  max-height: 300px;
  overflow: auto;
}
button {
  width: 100%;
  text-align: left;
  background: none;
  border: 0;
  padding: 6px 8px;
  color: var(--ink);
  cursor: pointer;
  font: inherit;
}
button:hover,
button:focus {
  background: var(--sea-tint);
}
</style>
