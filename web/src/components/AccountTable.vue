<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok, type Account } from "../api/client";
import { actsOf, remarksOf, stateOf, tagOf } from "../composables/accounts";
import { useAct, useLoad } from "../composables/load";
import PersonPick from "./PersonPick.vue";

/** The accounts at an application, by how they stand, with what makes sense to do with each. */
const props = defineProps<{ slug: string; state: string; turn: number; readonly: boolean }>();
const emit = defineEmits<{ open: [id: string]; changed: [] }>();
const search = ref("");
const rest = ref<Account[]>([]);
const next = ref("");
const page = (after?: string) =>
  ok(
    http.GET("/applications/{slug}/accounts/list", {
      params: {
        path: { slug: props.slug },
        query: { state: props.state || undefined, search: search.value || undefined, limit: 50, after },
      },
    }),
  );
const {
  data,
  error: loadError,
  again,
} = useLoad(async () => {
  const got = await page();
  rest.value = [];
  next.value = got.next ?? "";
  return got;
}, [() => props.slug, () => props.state, () => props.turn]);
let timer = 0;
watch(search, () => {
  clearTimeout(timer);
  timer = window.setTimeout(() => void again(), 150);
});
async function more() {
  const got = await page(next.value);
  rest.value = [...rest.value, ...got.items];
  next.value = got.next ?? "";
}
const { error, busy, act } = useAct();
const post = (body: { do: string; ids: string[]; person?: string }) =>
  act(async () => {
    await ok(http.POST("/applications/{slug}/accounts/act", { params: { path: { slug: props.slug } }, body }));
    adopted.value = person.value = "";
    emit("changed");
  });
const adopted = ref("");
const person = ref("");
</script>

<template>
  <ElInput
    v-model="search"
    class="find"
    type="search"
    clearable
    placeholder="How the name begins"
    aria-label="Find an account"
  />
  <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
  <ElTable v-if="data?.items.length" table-layout="auto" :data="[...data.items, ...rest]" row-key="id">
    <ElTableColumn label="Whose">
      <template #default="{ row: a }">
        <ElButton link type="primary" @click="emit('open', a.id)">{{ a.name }}</ElButton>
        <span v-if="a.kind === 'group'" class="tag">group</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="How it stands">
      <template #default="{ row: a }">
        <span class="tag" :class="tagOf(a as Account)">{{ stateOf(a as Account) }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="There" min-width="130">
      <template #default="{ row: a }">
        <span class="mono there">{{ a.remoteName || "–" }}</span>
        <span v-if="a.there === 'inactive'" class="soft small"> inactive</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="Why" min-width="220">
      <template #default="{ row: a }">
        <p v-for="r in remarksOf(a as Account)" :key="r" class="small why">{{ r }}</p>
      </template>
    </ElTableColumn>
    <ElTableColumn v-if="!readonly">
      <template #header><span class="visually-hidden">Acts</span></template>
      <template #default="{ row: a }">
        <div class="acts">
          <ElButton
            v-for="[what, words] in actsOf(a as Account)"
            :key="what"
            size="small"
            :loading="busy"
            @click="post({ do: what, ids: [a.id] })"
            >{{ words }}</ElButton
          >
          <ElButton v-if="a.kind === 'foreign' && adopted !== a.id" size="small" @click="adopted = a.id"
            >It is somebody's</ElButton
          >
        </div>
      </template>
    </ElTableColumn>
  </ElTable>
  <p v-else-if="data" class="soft">No account stands so.</p>
  <ElButton v-if="next" @click="more">Show more</ElButton>
  <ElForm
    v-if="adopted"
    class="row"
    label-position="top"
    @submit.prevent="post({ do: 'adopt', ids: [adopted], person })"
  >
    <PersonPick v-model="person" label="Whose account it is" />
    <ElButton native-type="submit" type="primary" :disabled="!person" :loading="busy">Adopt it</ElButton>
    <ElButton @click="adopted = ''">Cancel</ElButton>
  </ElForm>
</template>

<style scoped>
.find {
  display: flex;
  max-width: 280px;
  margin: 8px 0;
}
.why {
  margin: 0;
}
.there {
  white-space: nowrap;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.acts .el-button {
  margin: 0;
}
</style>
