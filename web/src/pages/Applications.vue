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
          ['everyone', 'everyone'],
          ['closed', 'closed'],
        ],
      },
    ]"
  >
    <template #default="{ items }">
      <table class="list">
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">Reach</th>
            <th scope="col">Speaks</th>
            <th scope="col">Entity ID, issuer or client ID</th>
            <th scope="col">Providers</th>
            <th scope="col">Last sign-in</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="a in items" :key="a.slug">
            <td>
              <RouterLink :to="`/applications/${a.slug}`"
                ><b>{{ a.name }}</b></RouterLink
              ><br /><span class="soft small">{{ a.description }}</span>
            </td>
            <td><ReachTag :reach="a.reach" /></td>
            <td>{{ kindWords[a.kind] }}</td>
            <td class="mono">{{ a.saml?.entityId || a.oidc?.clientId || a.guarded?.publicUrl || "–" }}</td>
            <td>{{ (a.providers ?? []).join(", ") || "–" }}</td>
            <td><TimeText :at="a.lastSignIn" from /></td>
          </tr>
        </tbody>
      </table>
    </template>
    <template #empty
      ><p>
        An application is a business system that people sign in to. Connect the first one from its metadata, or from a
        list of values.
      </p>
      <RouterLink to="/applications/new">Connect an application</RouterLink></template
    >
  </ListPage>
</template>
