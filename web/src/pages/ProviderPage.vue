<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok, providerConfig, type ProviderConfig, type Rule, type TakeIn } from "../api/client";
import CertificateTable from "../components/CertificateTable.vue";
import DirectoryForm from "../components/DirectoryForm.vue";
import FindingList from "../components/FindingList.vue";
import GiveOurs from "../components/GiveOurs.vue";
import MetadataWatch from "../components/MetadataWatch.vue";
import MappingEditor from "../components/MappingEditor.vue";
import ObjectHead from "../components/ObjectHead.vue";
import Passage from "../components/Passage.vue";
import MatchingForm from "../components/MatchingForm.vue";
import ProposeBar from "../components/ProposeBar.vue";
import ProviderForm from "../components/ProviderForm.vue";
import ReachControl from "../components/ReachControl.vue";
import SecretPanel from "../components/SecretPanel.vue";
import TakeTheirs from "../components/TakeTheirs.vue";
import TraceTable from "../components/TraceTable.vue";
import { useProposing } from "../composables/changes";
import { useAct, useLoad, useQueue } from "../composables/load";
import { useSession } from "../composables/session";
import { kindWords, relative } from "../composables/text";

const session = useSession();
const route = useRoute();
const router = useRouter();
const slug = computed(() => String(route.params.slug));
const params = () => ({ path: { slug: slug.value } });
const {
  data: provider,
  error,
  missing,
  again,
} = useLoad(() => ok(http.GET("/providers/{slug}", { params: params() })), [slug]);
const { data: sheet } = useLoad(
  async () =>
    !provider.value || provider.value.kind === "directory"
      ? null
      : ok(http.GET("/providers/{slug}/exchange", { params: params() })),
  [slug, () => provider.value?.kind],
);
const { data: traces } = useLoad(
  () => ok(http.GET("/traces", { params: { query: { provider: slug.value, limit: 5 } } })),
  [slug],
);
const station = computed(() => String(route.query.station ?? "provider-trust"));
const choose = (name: string) => void router.replace({ query: { station: name } });
type Input = TakeIn;
const understand = (body: Input) => ok(http.POST("/providers/{slug}/understand", { params: params(), body }));
const take = async (body: Input) => {
  provider.value = await ok(http.POST("/providers/{slug}/take", { params: params(), body }));
};
const queue = useQueue();
const proposals = useProposing("provider", provider);
const save = (change: (held: ProviderConfig) => ProviderConfig) =>
  queue(async () => {
    const held = provider.value!;
    if (proposals.proposing.value) return proposals.propose(change(providerConfig(held)));
    provider.value = await ok(
      http.PUT("/providers/{slug}", {
        params: { ...params(), query: { revision: held.revision } },
        body: change(providerConfig(held)),
      }),
    );
  });
const lastTrace = computed(() => traces.value?.items.find((t) => t.outcome === "signed-in")?.reference);
const previewMapping = (mapping: Rule[]) => ({
  provider: slug.value,
  draftProvider: { ...providerConfig(provider.value!), mapping },
});
const saveMapping = (mapping: Rule[]) => save((held) => ({ ...held, mapping }));
const usesSecret = computed(() => !["private_key_jwt", "none"].includes(provider.value?.oidc?.authentication ?? ""));
const host = (id?: string) => id?.replace(/^https?:\/\//, "").split("/")[0] ?? "";
// The same passage, seen from the provider's end.
const stations = computed(() => {
  const s = provider.value?.stations ?? [];
  const order = ["matching", "mapping-in", "provider-trust"];
  return order.map((n) => s.find((x) => x.name === n)!).filter(Boolean);
});
const { error: removeError, act } = useAct();
async function remove() {
  if (!(await sure(`Delete ${provider.value!.name}? Its traces and journal lines stay.`, "Delete it"))) return;
  await act(async () => {
    await ok(http.DELETE("/providers/{slug}", { params: params() }));
    await router.push("/providers");
  });
}
/** What was found where the page stands. */
const here = computed(() => (provider.value?.findings ?? []).filter((f) => f.station === station.value));
</script>

<template>
  <div v-if="missing" class="panel empty">
    <p>There is no provider of this name.</p>
    <RouterLink to="/providers">All providers</RouterLink>
  </div>
  <p v-else-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="provider">
    <ObjectHead
      :name="provider.name"
      kind="provider"
      :slug="slug"
      :reach="provider.reach"
      :findings="provider.findings ?? []"
      :engineer="session.engineer"
      @station="choose"
      @remove="remove"
    >
      <template #about
        >{{ kindWords[provider.kind] }} provider<template v-if="provider.description">
          · {{ provider.description }}</template
        >
      </template>
      <ElButton v-if="provider.kind !== 'directory'" @click="router.push(`/providers/${slug}/exchange`)"
        >Exchange sheet</ElButton
      >
      <ElButton type="primary" @click="choose('reach')">Open or close</ElButton>
    </ObjectHead>
    <ProposeBar v-if="session.engineer" :proposals="proposals" kind="provider" :slug="slug" />
    <Passage
      :application="null"
      :providers="[
        {
          title: provider.name,
          lines: [
            host(provider.saml?.entityId ?? provider.oidc?.issuer ?? provider.oidc?.authorizationEndpoint) ||
              (provider.kind === 'directory' ? 'at the gate itself' : 'nothing taken yet'),
            provider.lastSignIn ? `last sign-in ${relative(new Date(provider.lastSignIn))}` : 'no sign-in yet',
          ],
        },
      ]"
      :stations="stations"
      :active="station"
      @choose="choose"
    >
      <template #applications>
        <h2>{{ provider.serves?.length || "No" }} application{{ provider.serves?.length === 1 ? "" : "s" }}</h2>
        <p v-for="a in (provider.serves ?? []).slice(0, 6)" :key="a.slug">
          <RouterLink :to="`/applications/${a.slug}`">{{ a.name }}</RouterLink>
        </p>
        <p v-if="(provider.serves?.length ?? 0) > 6">
          <RouterLink :to="`/applications?provider=${slug}`">all of them</RouterLink>
        </p>
      </template>
    </Passage>
    <section class="panel" aria-live="polite">
      <FindingList v-if="here.length" class="here" :findings="here" />
      <template v-if="station === 'mapping-in' && provider.kind !== 'directory'"
        ><h2>Mapping in: what {{ provider.name }} sends</h2>
        <MappingEditor
          :mapping="provider.mapping ?? []"
          direction="in"
          :readonly="!session.engineer"
          :sample="lastTrace"
          :preview="previewMapping"
          :save="saveMapping"
        />
      </template>
      <DirectoryForm
        v-else-if="provider.kind === 'directory' && station !== 'reach'"
        :provider="provider"
        :readonly="!session.engineer"
        :save="save"
      />
      <template v-else-if="station === 'matching'"
        ><h2>Matching: who a person is</h2>
        <MatchingForm :provider="provider" :readonly="!session.engineer" :save="save" />
        <details v-if="provider.kind !== 'directory'">
          <summary>What identifies a person there</summary>
          <ProviderForm :provider="provider" part="matching" :readonly="!session.engineer" :save="save" /></details
      ></template>
      <template v-else-if="station === 'reach'"
        ><h2>Reach</h2>
        <ReachControl kind="providers" :object="provider" :readonly="!session.engineer" @changed="again()" />
      </template>
      <template v-else>
        <h2>Trust: what is held of {{ provider.name }}</h2>
        <CertificateTable v-if="provider.saml" :certificates="provider.certificateDetails ?? []" />
        <TakeTheirs
          v-if="session.engineer && provider.kind !== 'oauth2'"
          :understand="understand"
          :take="(i) => take(i)"
        />
        <MetadataWatch
          v-if="provider.saml"
          kind="providers"
          :slug="slug"
          :watch="provider.watch"
          :readonly="!session.engineer"
          @changed="again()"
        />
        <SecretPanel
          v-else-if="usesSecret"
          kind="providers"
          :slug="slug"
          :secrets="provider.secrets ?? []"
          :readonly="!session.engineer"
          @changed="again()"
        />
        <details :open="!provider.saml?.entityId && !provider.oidc?.authorizationEndpoint">
          <summary>Values, field by field</summary>
          <ProviderForm :provider="provider" part="values" :readonly="!session.engineer" :save="save" />
        </details>
        <details>
          <summary>Options</summary>
          <ProviderForm :provider="provider" part="options" :readonly="!session.engineer" :save="save" />
        </details>
        <details v-if="sheet" :open="!provider.saml?.entityId && !provider.oidc?.clientId">
          <summary>Give ours</summary>
          <GiveOurs :sheet="sheet" short />
        </details>
      </template>
    </section>
    <section class="later">
      <h2>Newest sign-ins</h2>
      <TraceTable :traces="traces?.items ?? []" empty="Nobody has signed in through it yet." />
    </section>
    <p v-if="removeError" class="error" role="alert">{{ removeError }}</p>
  </template>
</template>

<style scoped>
.here {
  margin-bottom: 16px;
}
details {
  margin-top: 16px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
  margin-bottom: 8px;
}
.later {
  margin-top: 28px;
}
.take {
  margin-top: 16px;
}
</style>
