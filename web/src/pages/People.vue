<script setup lang="ts">
import { ElButton } from "element-plus";
import { useRouter } from "vue-router";
import { http, ok, type PersonLine } from "../api/client";
import ListPage from "../components/ListPage.vue";
import ManyPeople from "../components/ManyPeople.vue";
import PeopleNav from "../components/PeopleNav.vue";
import PickColumn from "../components/PickColumn.vue";
import TimeText from "../components/TimeText.vue";
import { useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const load = (query: Record<string, string>) => ok(http.GET("/people", { params: { query } }));
const { data: settings } = useLoad(() => ok(http.GET("/people-settings")));
</script>

<template>
  <div class="head">
    <div>
      <h1>People</h1>
      <p class="sub">Whom the gate knows: from their first sign-in, from a file, or entered by hand.</p>
    </div>
    <div v-if="session.engineer" class="row">
      <ElButton @click="router.push('/people-settings')">Import and export</ElButton>
      <ElButton type="primary" @click="router.push('/people/new')">Add a person</ElButton>
    </div>
  </div>
  <PeopleNav />
  <ListPage
    :load="load"
    search="Name, mail address, user name begins"
    :columns="[
      ['email', 'Mail address'],
      ['username', 'User name'],
      ['type', 'Type'],
      ['seen', 'Last sign-in'],
    ]"
    :row-key="session.engineer ? (p) => p.id : undefined"
    :filters="[
      { name: 'type', label: 'Type', options: (settings?.settings.types ?? []).map((t) => [t, t] as [string, string]) },
      { name: 'group', label: 'Group', of: 'groups' },
      { name: 'provider', label: 'Provider', of: 'providers' },
      {
        name: 'active',
        label: 'Active',
        options: [
          ['yes', 'yes'],
          ['no', 'no'],
        ],
      },
    ]"
  >
    <template #many="{ chosen, reload }">
      <ManyPeople :chosen="chosen" @changed="reload()" />
    </template>
    <template #default="{ items, sort, order, chosen, shows }">
      <ElTable table-layout="auto" :data="items" :default-sort="order" row-key="id" class="dense" @sort-change="sort">
        <PickColumn v-if="session.engineer" :items="items" :chosen="chosen" :name="(p: PersonLine) => p.name" />
        <ElTableColumn prop="name" sortable="custom" label="Name">
          <template #default="{ row: p }">
            <RouterLink v-if="session.engineer" :to="`/people/${p.id}`"
              ><b>{{ p.name }}</b></RouterLink
            ><template v-else>{{ p.name }}</template>
            <span v-if="!p.active" class="tag broken">not active</span>
          </template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('email')" label="Mail address">
          <template #default="{ row: p }">
            <span class="mono">{{ p.email || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('username')" label="User name">
          <template #default="{ row: p }">
            <span class="mono">{{ p.username || "–" }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('type')" prop="type" sortable="custom" label="Type">
          <template #default="{ row: p }">{{ p.type }}</template>
        </ElTableColumn>
        <ElTableColumn v-if="shows('seen')" label="Last sign-in">
          <template #default="{ row: p }">
            <TimeText :at="p.lastSeen" from />
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
    <template #empty>
      <p>
        Nobody is known yet. People come with their first sign-in through a provider that creates them, or from a file.
      </p>
    </template>
  </ListPage>
</template>
