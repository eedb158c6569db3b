<script setup lang="ts">
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, type TrustedCertificate } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import ExpiryLine from "../components/ExpiryLine.vue";
import ListPage from "../components/ListPage.vue";
import RolloverPanel from "../components/RolloverPanel.vue";
import TimeText from "../components/TimeText.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const route = useRoute();
const router = useRouter();
const { data: keys, error, again } = useLoad(() => ok(http.GET("/keys")));
const { data: soon } = useLoad(() => ok(http.GET("/certificates", { params: { query: { limit: 12 } } })));
const words: Record<string, string> = {
  "saml-signing": "SAML signing",
  "saml-encryption": "SAML encryption",
  "token-rsa": "Tokens, RSA",
  "token-p256": "Tokens, ES256",
  "token-ed25519": "Tokens, EdDSA",
  client: "Our proof at providers",
};
const purpose = computed(() => String(route.query.key ?? "saml-signing"));
const partner = ref("");
const choose = (key: string) => {
  partner.value = "";
  void router.replace({ query: { ...route.query, key } });
};
const line = computed(() =>
  [
    ...(keys.value?.items ?? [])
      .filter((k) => k.purpose.startsWith("saml-") && (k.state === "active" || k.state === "next"))
      .map((k) => ({
        name: `Ours: ${words[k.purpose]}${k.state === "next" ? ", next" : ""}${k.for ? ` for ${k.for.name}` : ""}`,
        hint: k.sha256,
        at: k.notAfter,
      })),
    ...(soon.value?.items ?? [])
      .filter((c: TrustedCertificate) => !c.superseded)
      .map((c) => ({ name: `${c.owner.name}, ${c.use || "any use"}`, hint: c.sha256, at: c.notAfter })),
  ]
    .sort((a, b) => a.at.localeCompare(b.at))
    .slice(0, 12),
);
const retired = computed(() => (keys.value?.items ?? []).filter((k) => k.state === "retired"));
const load = (query: Record<string, string>) =>
  ok(http.GET("/certificates", { params: { query: { search: query.search, after: query.after } } }));
</script>

<template>
  <h1>Keyring</h1>
  <p class="sub">
    The gate's own keys, and the certificates of partners that it trusts. Private parts are sealed and never shown.
  </p>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <section v-if="line.length" class="panel">
    <h2>What ends when</h2>
    <ExpiryLine :items="line" />
  </section>
  <section class="panel">
    <div class="head">
      <ElTabs class="tabs" :model-value="purpose" aria-label="Our keys" @tab-change="choose(String($event))">
        <ElTabPane v-for="(text, key) in words" :key="key" :name="key" :label="text" />
      </ElTabs>
      <div v-if="!purpose.startsWith('token-')" class="for">
        <ElFormItem label="Towards">
          <ObjectPick v-model="partner" of="partners" none="all partners" />
        </ElFormItem>
      </div>
    </div>
    <RolloverPanel
      :key="purpose + partner"
      :purpose="purpose"
      :partner="partner || undefined"
      :owner="session.owner"
      :engineer="session.engineer"
      @changed="again()"
    />
    <details v-if="retired.length">
      <summary>Retired keys</summary>
      <p v-for="k in retired" :key="k.id" class="small">
        {{ words[k.purpose] ?? k.purpose }}, {{ k.kind }}, retired <TimeText :at="k.retired" from /><br /><span
          class="mono soft"
          >{{ k.sha256 }}</span
        >
      </p>
    </details>
  </section>
  <section class="panel">
    <h2>Certificates of partners</h2>
    <ListPage :load="load" search="Search by fingerprint, subject or partner">
      <template #default="{ items }">
        <ElTable table-layout="auto" :data="items">
          <ElTableColumn label="Ends">
            <template #default="{ row: c }">
              <TimeText :at="c.notAfter" /><br /><span class="soft small"
                ><TimeText :at="c.notAfter" from /><template v-if="c.superseded">, a later one is held</template></span
              >
            </template>
          </ElTableColumn>
          <ElTableColumn label="Partner">
            <template #default="{ row: c }">
              <RouterLink :to="`/${c.owner.kind}s/${c.owner.slug}`">{{ c.owner.name }}</RouterLink>
            </template>
          </ElTableColumn>
          <ElTableColumn label="For">
            <template #default="{ row: c }">{{ c.use || "any use" }}</template>
          </ElTableColumn>
          <ElTableColumn label="Certificate">
            <template #default="{ row: c }"
              >{{ c.subject }}, {{ c.key }}<br />
              <CopyValue :value="c.sha256" label="the fingerprint" />
            </template>
          </ElTableColumn>
          <ElTableColumn label="Held since">
            <template #default="{ row: c }">
              <TimeText :at="c.heldSince" from /><br /><span class="soft small">{{ c.origin }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Last used">
            <template #default="{ row: c }">
              <TimeText :at="c.lastUsed" from />
            </template>
          </ElTableColumn>
        </ElTable>
      </template>
      <template #empty>
        <p>No certificate of a partner is held yet. They come with the partners' metadata.</p>
      </template>
    </ListPage>
  </section>
</template>

<style scoped>
.panel {
  margin-bottom: 18px;
}
.head {
  flex-wrap: wrap;
}
.tabs {
  flex: 1 1 420px;
  min-width: 0;
}
.for {
  min-width: 240px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
}
</style>
