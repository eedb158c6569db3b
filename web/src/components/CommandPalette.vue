<script setup lang="ts">
import { ElDialog, type InputInstance } from "element-plus";
import { nextTick, onBeforeUnmount, onMounted, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { http, ok } from "../api/client";

type Item = { kind: string; name: string; hint: string; path: string };
const router = useRouter();
const shown = ref(false);
const text = ref("");
const items = ref<Item[]>([]);
const at = ref(0);
const field = ref<InputInstance | null>(null);
let turn = 0;

function open() {
  shown.value = true;
  text.value = "";
  items.value = [];
}

watch(text, async (q) => {
  const mine = ++turn;
  if (!q.trim()) {
    items.value = [];
    return;
  }
  const found = await ok(http.GET("/find", { params: { query: { q } } })).catch(() => ({ items: [] as Item[] }));
  if (mine === turn) [items.value, at.value] = [found.items, 0];
});

function go(item?: Item) {
  if (!item) return;
  shown.value = false;
  void router.push(item.path);
}

function key(e: KeyboardEvent) {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
    e.preventDefault();
    open();
    return;
  }
  // What is typed before the field has the focus is not lost.
  if (!shown.value || (e.target as HTMLElement | null)?.closest?.(".el-dialog") || e.ctrlKey || e.metaKey || e.altKey)
    return;
  if (e.key.length === 1) text.value += e.key;
  else if (e.key === "Backspace") text.value = text.value.slice(0, -1);
  else return;
  e.preventDefault();
  field.value?.focus();
}
onMounted(() => addEventListener("keydown", key));
onBeforeUnmount(() => removeEventListener("keydown", key));
defineExpose({ open });
</script>

<template>
  <ElDialog
    v-model="shown"
    title="Find anything"
    width="560"
    append-to-body
    @open="nextTick(() => field?.focus())"
    @opened="field?.focus()"
  >
    <ElInput
      ref="field"
      v-model="text"
      class="ask"
      type="search"
      aria-label="Name, entity ID, trace number or fingerprint"
      placeholder="Name, entity ID, trace number, fingerprint"
      @keydown.down.prevent="at = Math.min(at + 1, items.length - 1)"
      @keydown.up.prevent="at = Math.max(at - 1, 0)"
      @keydown.enter="go(items[at])"
    />
    <ul>
      <li v-for="(item, i) in items" :key="item.kind + item.path">
        <a :href="`/console${item.path}`" :class="{ on: i === at }" @click.prevent="go(item)"
          ><b>{{ item.name }}</b> <span class="tag">{{ item.kind }}</span><span class="mono soft">{{
            item.hint
          }}</span></a
        >
      </li>
      <li v-if="text && !items.length" class="soft">Nothing is called so.</li>
    </ul>
  </ElDialog>
</template>

<style scoped>
.ask {
  width: 100%;
  font: inherit;
  font-size: 16px;
  padding: 10px 12px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--paper);
  color: var(--ink);
}
ul {
  list-style: none;
  padding: 0;
  margin: 10px 0 0;
}
li a {
  display: flex;
  gap: 10px;
  align-items: center;
  padding: 8px 10px;
  text-decoration: none;
  color: var(--ink);
  border-left: 3px solid transparent;
  flex-wrap: wrap;
}
li a.on {
  background: var(--sea-tint);
  border-color: var(--sea);
}
</style>
