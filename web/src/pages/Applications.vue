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
const load = (query: Record<string, string>) => ok(http.GET("/applications", { params: { query } }));
</script>

<template>
  <div class="head">
    <div>
      <h1>Applications</h1>
      <p class="sub">What people sign in to.</p>
    </div>
    <ElButton v-if="session.engineer" type="primary" @click="router.push('/applications/new')"
      >Connect an application</ElButton
    >
  </div>
  <EstateNav side="applications" />
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
          <template #default="{ row: a }">
            <RouterLink :to="`/applications/${a.slug}`"
              ><b>{{ a.name }}</b></RouterLink
            ><br /><span class="soft small">{{ a.description }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn prop="reach" sortable="custom" label="Reach">
          <template #default="{ row: a }">
            <ReachTag :reach="a.reach" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Speaks">
          <template #default="{ row: a }">{{ kindWords[a.kind] }}</template>
        </ElTableColumn>
        <ElTableColumn label="Entity ID, issuer or client ID">
          <template #default="{ row: a }">
            <span class="mono">{{ a.saml?.entityId || a.oidc?.clientId || a.guarded?.publicUrl || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Providers">
          <template #default="{ row: a }">{{ (a.providers ?? []).join(", ") || "–" }}</template>
        </ElTableColumn>
        <ElTableColumn label="Last sign-in">
          <template #default="{ row: a }">
            <TimeText :at="a.lastSignIn" from />
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <template #empty>
      <p>
        An application is a business system that people sign in to. Connect the first one from its metadata, or from a
        list of values.
      </p>
      <RouterLink to="/applications/new">Connect an application</RouterLink>
    </template>
  </ListPage>
</template>
