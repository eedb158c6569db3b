<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { useRouter } from "vue-router";
import { http, ok, type Application, type Provider } from "../api/client";
import { useSession } from "../composables/session";
import { kindWords } from "../composables/text";
import EstateNav from "./EstateNav.vue";
import ListPage from "./ListPage.vue";
import ManyPartners from "./ManyPartners.vue";
import PickColumn from "./PickColumn.vue";
import ReachTag from "./ReachTag.vue";
import TimeText from "./TimeText.vue";

type Partner = Application | Provider;

// All applications, or all providers.
const props = defineProps<{
  kind: "applications" | "providers";
  title: string;
  about: string;
  connect: string;
  kinds: string[];
  /** What stands in the column between identifier and last sign-in. */
  last: { label: string; words: (p: Partner) => string };
}>();
const session = useSession();
const router = useRouter();
const load = (query: Record<string, string>): Promise<{ items: Partner[]; next?: string }> =>
  props.kind === "applications"
    ? ok(http.GET("/applications", { params: { query } }))
    : ok(http.GET("/providers", { params: { query } }));
const filters = computed(() => [
  {
    name: "reach",
    label: "Reach",
    options: ["draft", "circle", "everyone", "closed"].map((r): [string, string] => [r, r]),
  },
  {
    name: "kind",
    label: "Speaks",
    options: props.kinds.map((k): [string, string] => [k, kindWords[k] ?? k]),
  },
  ...(props.kind === "applications" ? [{ name: "provider", label: "Provider", of: "providers" as const }] : []),
]);
const identifier = (p: Partner) => {
  const o = p.oidc as { clientId?: string; issuer?: string } | undefined;
  const own = props.kind === "applications" ? o?.clientId : o?.issuer;
  return p.saml?.entityId || own || (p as Application).guarded?.publicUrl || "–";
};
</script>

<template>
  <div class="head">
    <div>
      <h1>{{ title }}</h1>
      <p class="sub">{{ about }}</p>
    </div>
    <ElButton v-if="session.engineer" type="primary" @click="router.push(`/${kind}/new`)">{{ connect }}</ElButton>
  </div>
  <EstateNav :side="kind" />
  <ListPage
    :load="load"
    search="Search by name or entity ID"
    :filters="filters"
    :columns="[
      ['kind', 'Speaks'],
      ['identifier', 'Identifier'],
      ['last', last.label],
      ['tags', 'Tags'],
      ['used', 'Last sign-in'],
    ]"
    :row-key="session.engineer ? (p) => p.slug : undefined"
  >
    <template #many="{ chosen, reload }">
      <ManyPartners :kind="kind" :chosen="chosen" @changed="reload()" />
    </template>
    <template #default="{ items, sort, order, chosen, shows }">
      <ElTable table-layout="auto" :data="items" :default-sort="order" row-key="slug" class="dense" @sort-change="sort">
        <PickColumn v-if="session.engineer" :items="items" :chosen="chosen" :name="(p: Partner) => p.name" />
        <ElTableColumn prop="name" sortable="custom" label="Name">
          <template #default="{ row: p }">
            <RouterLink :to="`/${kind}/${p.slug}`"
              ><b>{{ p.name }}</b></RouterLink
            >
            <span v-if="p.description" class="soft small second">{{ p.description }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn prop="reach" sortable="custom" label="Reach">
          <template #default="{ row: p }"><ReachTag :reach="p.reach" /></template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('kind')" prop="kind" sortable="custom" label="Speaks">
          <template #default="{ row: p }">{{ kindWords[p.kind] }}</template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('identifier')" label="Entity ID, issuer or client ID">
          <template #default="{ row: p }">
            <span class="mono">{{ identifier(p as Partner) }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('last')" :label="last.label">
          <template #default="{ row: p }">{{ last.words(p as Partner) }}</template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('tags')" label="Tags">
          <template #default="{ row: p }">
            <ElTag v-for="t in p.tags ?? []" :key="t" type="info" size="small">{{ t }}</ElTag>
          </template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('used')" label="Last sign-in">
          <template #default="{ row: p }"><TimeText :at="p.lastSignIn" from /></template>
        </ElTableColumn>
      </ElTable>
    </template>
    <template #empty><slot name="empty" /></template>
  </ListPage>
</template>
