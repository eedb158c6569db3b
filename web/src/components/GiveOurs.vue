<script setup lang="ts">
import { http, ok, type Difference, type ExchangeSheet } from "../api/client";
import { computed, ref } from "vue";
import CopyValue from "./CopyValue.vue";
import TwoValues from "./TwoValues.vue";

const props = defineProps<{ sheet: ExchangeSheet; short?: boolean }>();
const pasted = ref<Record<string, string>>({});
const found = ref<Record<string, Difference>>({});
const open = ref("");
const saml = computed(() => !!props.sheet.requested);

async function compare(name: string, ours: string) {
  const theirs = pasted.value[name] ?? "";
  if (!theirs) {
    delete found.value[name];
    return;
  }
  found.value[name] = await ok(http.POST("/compare", { body: { ours, theirs } }));
}
</script>

<template>
  <div class="give">
    <p class="sub">{{ sheet.role }}</p>
    <dl>
      <template v-for="v in short ? sheet.values.slice(0, 3) : sheet.values" :key="v.name">
        <dt>
          <b>{{ v.name }}</b><span class="soft small">{{ v.hint }}</span>
        </dt>
        <dd>
          <span v-if="v.kind === 'note'">{{ v.value }}</span>
          <CopyValue v-else :value="v.value" :label="v.name" :block="v.kind === 'certificate'" />
          <ElButton
            v-if="v.kind !== 'certificate' && v.kind !== 'note'"
            link
            type="primary"
            class="no-print"
            :aria-expanded="open === v.name"
            @click="open = open === v.name ? '' : v.name"
            >Compare</ElButton
          >
          <div v-if="open === v.name" class="compare">
            <ElInput
              v-model="pasted[v.name]"
              class="mono"
              :aria-label="`What their form shows for ${v.name}`"
              placeholder="Paste what their form shows"
              @input="compare(v.name, v.value)"
            />
            <p v-if="found[v.name]?.equal" class="same">✓ Equal to the last character.</p>
            <TwoValues v-else-if="found[v.name]" :difference="found[v.name]!" first="ours" second="theirs" />
          </div>
        </dd>
      </template>
    </dl>
    <template v-if="!short && sheet.attributes.length">
      <h2>Attributes</h2>
      <ElTable table-layout="auto" :data="sheet.attributes" row-key="name">
        <ElTableColumn label="Name">
          <template #default="{ row: a }">
            <span class="mono"
              >{{ a.name
              }}<template v-if="a.friendlyName"
                ><br /><span class="soft">{{ a.friendlyName }}</span></template
              ></span
            >
          </template>
        </ElTableColumn>
        <ElTableColumn :label="saml ? 'Name format' : 'Scope'">
          <template #default="{ row: a }">
            <span class="mono small">{{ a.nameFormat?.split(":").pop() || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Meaning">
          <template #default="{ row: a }"
            >{{ a.meaning }}<span v-if="a.required" class="tag attention">mandatory</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Sample">
          <template #default="{ row: a }">
            <span class="mono small">{{ a.sample || "–" }}</span>
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
  </div>
</template>

<style scoped>
.give {
  container-type: inline-size;
}
dl {
  display: grid;
  grid-template-columns: minmax(180px, 260px) minmax(0, 1fr);
  gap: 0;
  margin: 0;
}
dt,
dd {
  margin: 0;
  padding: 10px 12px 10px 0;
  border-bottom: 1px solid var(--hair);
}
dt span {
  display: block;
}
.same {
  color: var(--moss);
  margin: 6px 0 0;
}
h2 {
  margin-top: 22px;
}
.tag {
  margin-left: 8px;
}
@container (max-width: 560px) {
  dl {
    grid-template-columns: 1fr;
  }
  dt {
    border: 0;
    padding-bottom: 0;
  }
}
</style>
