<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type SourceEntity } from "../api/client";
import AdoptedList from "../components/AdoptedList.vue";
import CopyValue from "../components/CopyValue.vue";
import FindingList from "../components/FindingList.vue";
import ListPage from "../components/ListPage.vue";
import SourceJob from "../components/SourceJob.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad, useTicker } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const route = useRoute();
const router = useRouter();
const slug = String(route.params.slug);
const path = { slug };
const { data: source, error, again } = useLoad(() => ok(http.GET("/sources/{slug}", { params: { path } })));
const turn = ref(0);
let reading = false;
useTicker(700, async () => {
  if (!source.value?.job && !reading) return;
  reading = !!source.value?.job;
  await again();
  if (reading && !source.value?.job) {
    reading = false;
    turn.value++;
  }
});
const load = (query: Record<string, string>) => ok(http.GET("/sources/{slug}/entities", { params: { path, query } }));
const { error: failed, busy, act } = useAct();
const refresh = () =>
  act(async () => {
    source.value = await ok(http.POST("/sources/{slug}/refresh", { params: { path } }));
    reading = true;
  });
const cancel = () =>
  act(async () => {
    await ok(http.DELETE("/sources/{slug}/refresh", { params: { path } }));
    await again();
  });
const chosen = ref(new Map<string, SourceEntity>());
function choose(e: SourceEntity, on: boolean) {
  if (on) chosen.value.set(e.entityId, e);
  else chosen.value.delete(e.entityId);
}
const can = (role: string) => chosen.value.size > 0 && [...chosen.value.values()].every((e) => e.roles.includes(role));
const results = ref<{ entityId: string; slug?: string; outcome: string; reason?: string; as: string }[]>([]);
const adopt = (as: "application" | "provider") =>
  act(async () => {
    const got = await ok(
      http.POST("/sources/{slug}/adopt", { params: { path }, body: { as, entityIds: [...chosen.value.keys()] } }),
    );
    results.value = got.items.map((i) => ({ ...i, as }));
    chosen.value = new Map();
    turn.value++;
  });
const wanted = ref("");
const lookUp = () =>
  act(async () => {
    await ok(http.POST("/sources/{slug}/look-up", { params: { path }, body: { entityId: wanted.value.trim() } }));
    wanted.value = "";
    await again();
    turn.value++;
  });
async function remove() {
  if (!(await sure(`Delete the source ${source.value!.name}? Partners that were made from it stay.`, "Delete it")))
    return;
  await act(async () => {
    await ok(http.DELETE("/sources/{slug}", { params: { path } }));
    await router.push("/sources");
  });
}
const roles: Record<string, string> = { idp: "identity provider", sp: "service provider" };
</script>

<template>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="source">
    <div class="head">
      <div>
        <h1>{{ source.name }}</h1>
        <p class="sub">
          <template v-if="source.publishedName">{{ source.publishedName }} · </template
          >{{ source.entities.toLocaleString() }} entities · read <TimeText :at="source.checked" from /><template
            v-if="source.due"
          >
            · next <TimeText :at="source.due" from /></template
          ><template v-if="source.validUntil"> · valid until <TimeText :at="source.validUntil" /></template>
        </p>
      </div>
      <div v-if="session.engineer" class="row">
        <ElButton v-if="source.kind !== 'query' && !source.job" :loading="busy" @click="refresh">Read it now</ElButton>
        <ElButton v-if="source.job" @click="cancel">Cancel the reading</ElButton>
        <ElButton type="danger" @click="remove">Delete</ElButton>
      </div>
    </div>
    <SourceJob v-if="source.job" :job="source.job" />
    <FindingList v-if="source.findings.length" :findings="source.findings" />
    <dl v-if="source.url || source.pinned" class="facts">
      <template v-if="source.url"
        ><dt>Address</dt>
        <dd>
          <CopyValue :value="source.url" label="the address" /></dd></template
      ><template v-if="source.pinned"
        ><dt>Must be signed by</dt>
        <dd>
          <CopyValue :value="source.pinned" label="the fingerprint" /></dd
      ></template>
    </dl>
    <ElForm
      v-if="source.kind === 'query' && session.engineer"
      label-position="top"
      class="row look"
      @submit.prevent="lookUp"
    >
      <ElFormItem label="Look up an entity ID">
        <ElInput v-model="wanted" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElButton native-type="submit" :loading="busy" :disabled="!wanted.trim()">Look up</ElButton>
    </ElForm>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
    <AdoptedList v-if="results.length" :results="results" />
    <ListPage
      :key="turn"
      :load="load"
      search="Search by name or entity ID"
      :filters="[
        {
          name: 'role',
          label: 'Role',
          options: [
            ['idp', 'identity providers'],
            ['sp', 'service providers'],
          ],
        },
      ]"
    >
      <template #bar>
        <template v-if="session.engineer"
          ><span class="soft">{{ chosen.size }} chosen</span>
          <ElButton :disabled="!can('sp')" :loading="busy" @click="adopt('application')">Add as applications</ElButton>
          <ElButton :disabled="!can('idp')" :loading="busy" @click="adopt('provider')">Add as providers</ElButton>
        </template>
      </template>
      <template #default="{ items }">
        <ElTable table-layout="auto" :data="items" row-key="entityId">
          <ElTableColumn width="40">
            <template #header>
              <span class="visually-hidden">Choose</span>
            </template>
            <template #default="{ row: e }">
              <ElCheckbox
                :model-value="chosen.has(e.entityId)"
                :disabled="!session.engineer"
                @change="choose(e as SourceEntity, !!$event)"
                ><span class="visually-hidden">Choose {{ e.displayName }}</span></ElCheckbox
              >
            </template>
          </ElTableColumn>
          <ElTableColumn label="Name">
            <template #default="{ row: e }">{{ e.displayName }}</template>
          </ElTableColumn>
          <ElTableColumn label="Entity ID">
            <template #default="{ row: e }">
              <span class="mono"
                ><a
                  :href="`/api/v1/sources/${slug}/entity?entityId=${encodeURIComponent(e.entityId)}`"
                  target="_blank"
                  >{{ e.entityId }}</a
                ></span
              >
            </template>
          </ElTableColumn>
          <ElTableColumn label="Roles">
            <template #default="{ row: e }">{{ e.roles.map((r: string) => roles[r] ?? r).join(", ") }}</template>
          </ElTableColumn>
          <ElTableColumn label="Problems found">
            <template #default="{ row: e }">{{ e.problems || "" }}</template>
          </ElTableColumn>
          <ElTableColumn label="Held as">
            <template #default="{ row: e }">
              <RouterLink v-if="e.held" :to="`/${e.held.kind}s/${e.held.slug}`">{{ e.held.name }}</RouterLink>
            </template>
          </ElTableColumn>
        </ElTable>
      </template>
      <template #empty>
        <p v-if="source.job">It is being read.</p>
        <p v-else>Nothing was read from it yet.</p>
      </template>
    </ListPage>
  </template>
</template>

<style scoped>
.facts {
  display: grid;
  grid-template-columns: 150px minmax(0, 1fr);
  margin: 0 0 14px;
}
dt {
  color: var(--soft);
}
dt,
dd {
  margin: 0;
  padding: 4px 0;
}
.look .el-form-item {
  flex: 1;
  margin: 0;
}
</style>
