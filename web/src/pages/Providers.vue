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
            <th scope="col">Strangers</th>
            <th scope="col">Last sign-in</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in items" :key="p.slug">
            <td>
              <RouterLink :to="`/providers/${p.slug}`"
                ><b>{{ p.name }}</b></RouterLink
              ><br /><span class="soft small">{{ p.description }}</span>
            </td>
            <td><ReachTag :reach="p.reach" /></td>
            <td>{{ kindWords[p.kind] }}</td>
            <td class="mono">{{ p.saml?.entityId || p.oidc?.issuer || "–" }}</td>
            <td>
              {{
                p.kind === "directory"
                  ? "–"
                  : ({ create: "created", ask: "asked", pass: "passed through" }[p.admission ?? ""] ?? "refused")
              }}
            </td>
            <td><TimeText :at="p.lastSignIn" from /></td>
          </tr>
        </tbody>
      </table>
    </template>
    <template #empty
      ><p>
        A provider vouches for people: it is where they have their account. Connect the first one from its metadata.
      </p>
      <RouterLink to="/providers/new">Connect a provider</RouterLink></template
    >
  </ListPage>
</template>
