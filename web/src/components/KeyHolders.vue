<script setup lang="ts">
import { ElButton } from "element-plus";
import { http, ok, type Key, type Rollover } from "../api/client";
import { useAct } from "../composables/load";
import TimeText from "./TimeText.vue";

// Which partners hold a certificate: they fetched it, or somebody confirmed that they have it.
defineProps<{ roll: Rollover; engineer: boolean }>();
const emit = defineEmits<{ changed: [] }>();
type Holder = { kind: string; slug: string; has: boolean };
const { error, act } = useAct();
const confirmed = (p: Holder, key: Key) =>
  act(async () => {
    const params = { params: { path: { id: key.id, side: `${p.kind}s`, slug: p.slug } } };
    await (p.has
      ? ok(http.DELETE("/keys/{id}/holders/{side}/{slug}", params))
      : ok(http.PUT("/keys/{id}/holders/{side}/{slug}", params)));
    emit("changed");
  });
const how: Record<string, string> = { fetched: "fetched our metadata", confirmed: "confirmed" };
</script>

<template>
  <h3>Who has it</h3>
  <ElTable table-layout="auto" :data="roll.partners">
    <ElTableColumn label="Partner">
      <template #default="{ row: p }">
        <RouterLink :to="`/${p.kind}s/${p.slug}`">{{ p.name }}</RouterLink>
        <span class="soft small">{{ p.kind }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Has it">
      <template #default="{ row: p }">
        <template v-if="p.has"
          ><span class="tag sound">yes</span>
          <span class="soft small"
            >{{ how[p.how ?? ""] }} <TimeText :at="p.at" from /><template v-if="p.how === 'confirmed'">
              by {{ p.by }}</template
            ></span
          ></template
        ><span v-else class="tag attention">not known</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Last sign-in">
      <template #default="{ row: p }">
        <TimeText :at="p.lastSignIn" from />
      </template>
    </ElTableColumn>
    <ElTableColumn>
      <template #header>
        <span class="visually-hidden">Actions</span>
      </template>
      <template #default="{ row: p }">
        <ElButton
          v-if="engineer && p.how !== 'fetched'"
          size="small"
          @click="confirmed(p as Holder, (roll.next ?? roll.active)!)"
          >{{ p.has ? "Not so" : "They have it" }}</ElButton
        >
      </template>
    </ElTableColumn>
  </ElTable>

  <p v-if="error" class="error" role="alert">{{ error }}</p>
</template>
