<script setup lang="ts">
import { computed } from "vue";
import { marked } from "../composables/changes";

const props = defineProps<{ changes: { field: string; before: string; after: string }[]; empty?: string }>();
const rows = computed(() => props.changes.map((c) => ({ field: c.field, ...marked(c.before, c.after) })));
</script>

<template>
  <p v-if="!rows.length" class="soft">{{ empty ?? "Nothing differs." }}</p>
  <dl v-else class="changes">
    <template v-for="r in rows" :key="r.field"
      ><dt class="mono">{{ r.field }}</dt>
      <dd class="mono">
        <div v-if="r.before !== ''" class="was">
          <span aria-hidden="true">−</span><span class="visually-hidden">before:</span> {{ r.head
          }}<mark v-if="r.gone">{{ r.gone }}</mark
          >{{ r.tail }}
        </div>
        <div v-if="r.after !== ''" class="is">
          <span aria-hidden="true">+</span><span class="visually-hidden">after:</span> {{ r.head
          }}<mark v-if="r.come">{{ r.come }}</mark
          >{{ r.tail }}
        </div>
      </dd></template
    >
  </dl>
</template>

<style scoped>
.changes {
  display: grid;
  grid-template-columns: minmax(8rem, 16rem) minmax(0, 1fr);
  margin: 0;
}
dt,
dd {
  margin: 0;
  padding: 5px 12px 5px 0;
  border-top: 1px solid var(--hair);
  overflow-wrap: anywhere;
  white-space: pre-wrap;
}
dt {
  color: var(--soft);
}
.was {
  color: var(--soft);
}
.was span,
.is span {
  display: inline-block;
  width: 1.2em;
  font-weight: 700;
}
.was span {
  color: var(--rust);
}
.is span {
  color: var(--moss);
}
mark {
  background: var(--mark);
  color: var(--ink);
}
.visually-hidden {
  width: 1px !important;
}
@media (max-width: 760px) {
  .changes {
    grid-template-columns: 1fr;
  }
  dd {
    border: 0;
    padding-top: 0;
  }
}
</style>
