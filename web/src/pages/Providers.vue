<script setup lang="ts">
import { ElButton } from "element-plus";
import { useRouter } from "vue-router";
import { http, ok } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import ListPage from "../components/ListPage.vue";
import ReachTag from "../components/ReachTag.vue";
import TimeText from "../components/TimeText.vue";
import { useSession } from "../composables/session";
import { kindWords } from "../composables/text";

const session = useSession();
const router = useRouter();
const load = (query: Record<string, string>) => ok(http.GET("/providers", { params: { query } }));
const newcomers: Record<string, string> = { create: "created", ask: "asked", pass: "passed through" };
</script>

<template>
  <div class="head">
    <div>
      <h1>Providers</h1>
      <p class="sub">Who vouches for people.</p>
    </div>
    <ElButton v-if="session.engineer" type="primary" @click="router.push('/providers/new')"
      >Connect a provider</ElButton
    >
  </div>
  <EstateNav side="providers" />
  <ListPage
    :load="load"
    search="Search by name or entity ID"
    :filters="[
      {
        name: 'reach',
        label: 'Reach',
        options: [
          ['draft', 'draft'],
          ['circle', 'circle'],
          ['everyone', 'everyone'],
          ['closed', 'closed'],
        ],
      },
    ]"
  >
    <template #default="{ items, sort, order }">
      <ElTable table-layout="auto" :data="items" :default-sort="order" row-key="slug" @sort-change="sort">
        <ElTableColumn prop="name" sortable="custom" label="Name">
          <template #default="{ row: p }">
            <RouterLink :to="`/providers/${p.slug}`"
              ><b>{{ p.name }}</b></RouterLink
            ><br /><span class="soft small">{{ p.description }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn prop="reach" sortable="custom" label="Reach">
          <template #default="{ row: p }">
            <ReachTag :reach="p.reach" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Speaks">
          <template #default="{ row: p }">{{ kindWords[p.kind] }}</template>
        </ElTableColumn>
        <ElTableColumn label="Entity ID, issuer or client ID">
          <template #default="{ row: p }">
            <span class="mono">{{ p.saml?.entityId || p.oidc?.issuer || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Strangers">
          <template #default="{ row: p }">{{
            p.kind === "directory" ? "–" : (newcomers[p.admission] ?? "refused")
          }}</template>
        </ElTableColumn>
        <ElTableColumn label="Last sign-in">
          <template #default="{ row: p }">
            <TimeText :at="p.lastSignIn" from />
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <template #empty>
      <p>
        A provider vouches for people: it is where they have their account. Connect the first one from its metadata.
      </p>
      <RouterLink to="/providers/new">Connect a provider</RouterLink>
    </template>
  </ListPage>
</template>
