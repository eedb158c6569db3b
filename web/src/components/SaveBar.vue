<script setup lang="ts">
import { ElButton } from "element-plus";
import { onBeforeUnmount, onMounted, ref, watch } from "vue";
import type { Edits } from "../composables/edits";
import { put } from "../composables/offer";
import FieldChanges from "./FieldChanges.vue";

const props = defineProps<{ edits: Edits<object>; proposing?: boolean }>();
const { draft, dirty, changes, goes, kept, busy, error, offers, save, drop, takeBack, mayTakeBack } = props.edits;
const shown = ref(false);
watch(dirty, (now) => !now && (shown.value = false));
const name = (field: string) => field.replace(/^(oidc|saml)\./, "");
const clock = (at: Date) => at.toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit", second: "2-digit" });
const bar = ref(false);
watch([dirty, kept, error], () => (bar.value = true));

function key(e: KeyboardEvent) {
  if (!(e.ctrlKey || e.metaKey) || e.key !== "s") return;
  e.preventDefault();
  void save();
}
onMounted(() => addEventListener("keydown", key));
onBeforeUnmount(() => removeEventListener("keydown", key));
</script>

<template>
  <section v-if="bar && (dirty || error || kept)" class="save-bar" aria-label="Saving">
    <div v-if="shown && dirty" class="what"><FieldChanges :changes="changes" /></div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <p v-for="o in error ? offers : []" :key="o.field + o.value" class="offer">
      <ElButton size="small" @click="put(draft, o.field, o.value)">Put {{ o.value }} into {{ name(o.field) }}</ElButton>
    </p>
    <div class="row">
      <span role="status">
        <template v-if="busy">Saving…</template>
        <template v-else-if="dirty && goes">{{ error ? "Not kept yet" : "Keeping it…" }}</template>
        <template v-else-if="dirty"
          >{{ changes.length }} {{ changes.length === 1 ? "value" : "values" }} changed, not saved yet</template
        >
        <template v-else-if="kept && goes">Kept as you go, last at {{ clock(kept) }}</template>
        <template v-else-if="kept">{{ proposing ? "Proposed" : "Saved" }} at {{ clock(kept) }}</template>
      </span>
      <ElButton v-if="dirty" text :aria-expanded="shown" @click="shown = !shown">What changes</ElButton>
      <span class="grow"></span>
      <ElButton v-if="mayTakeBack && !proposing" :loading="busy" @click="takeBack">Take it back</ElButton>
      <ElButton v-if="dirty" :disabled="busy" @click="drop">Throw it away</ElButton>
      <ElButton v-if="dirty && !goes" type="primary" :loading="busy" title="Ctrl S" @click="save">{{
        proposing ? "Propose it" : "Save"
      }}</ElButton>
    </div>
  </section>
</template>

<style scoped>
.save-bar {
  position: sticky;
  bottom: 0;
  z-index: 5;
  margin: 20px 0 0;
  padding: 10px 16px;
  background: var(--card);
  border: 1px solid var(--rule);
  border-top: 3px solid var(--brass-line);
  border-radius: 4px 4px 0 0;
}
.what {
  max-height: 40vh;
  overflow: auto;
  margin-bottom: 8px;
}
.grow {
  flex: 1;
}
.row {
  gap: 10px;
}
.offer,
.error {
  margin: 0 0 8px;
}
</style>
