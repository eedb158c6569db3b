<script setup lang="ts">
import { ElButton, ElInput, ElTable, ElTableColumn, ElTag } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import { useAct } from "../composables/load";
import type { components } from "../api/schema";

const props = defineProps<{ reference: string }>();
const open = ref(false);
const message = ref("");
const found = ref<components["schemas"]["RefusedThere"]>();
const { error, busy, act } = useAct();
const look = () =>
  act(async () => {
    found.value = await ok(
      http.GET("/traces/{reference}/refused-there", {
        params: { path: { reference: props.reference }, query: { message: message.value || undefined } },
      }),
    );
    open.value = true;
  });
</script>

<template>
  <section class="panel">
    <h2>The application refused it</h2>
    <p class="soft small">
      What the application made of our answer stands in no trace. Enter what it said, and compare its values with ours.
    </p>
    <ElForm label-position="top" class="row" @submit.prevent="look">
      <ElInput
        v-model="message"
        placeholder="Its message, such as: Invalid audience"
        aria-label="What the application said"
      />
      <ElButton native-type="submit" :loading="busy">Look it up</ElButton>
    </ElForm>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <template v-if="open && found">
      <h3>What it usually means</h3>
      <ul>
        <li v-for="m in found.messages.filter((x, i) => x.fits || (!found!.messages[0]?.fits && i < 4))" :key="m.says">
          <ElTag v-if="m.fits" size="small" type="success">fits</ElTag> “{{ m.says }}”: {{ m.means }}
          <span class="soft">Compare {{ m.compare.join(", ") }}.</span>
        </li>
      </ul>
      <h3>What to compare</h3>
      <ElTable table-layout="auto" :data="found.compare" size="small">
        <ElTableColumn label="What, and what to compare it with there" width="150">
          <template #default="{ row }">
            <b>{{ row.name }}</b><br /><span class="soft">{{ row.look }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Was sent">
          <template #default="{ row }">
            <span class="mono">{{ row.sent }}</span><template v-if="row.registered && row.registered !== row.sent"
              ><br /><span class="soft"
                >registered: <span class="mono">{{ row.registered }}</span></span
              ></template
            >
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
  </section>
</template>

<style scoped>
.mono {
  overflow-wrap: anywhere;
}
h3 {
  margin: 14px 0 4px;
}
ul {
  margin: 4px 0 12px;
  padding-left: 18px;
}
</style>
