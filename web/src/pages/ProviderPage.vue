<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import DirectoryForm from "../components/DirectoryForm.vue";
import MappingEditor from "../components/MappingEditor.vue";
import MatchingForm from "../components/MatchingForm.vue";
import ObjectFrame from "../components/ObjectFrame.vue";
import Passage from "../components/Passage.vue";
import ProviderForm from "../components/ProviderForm.vue";
import ProviderTrust from "../components/ProviderTrust.vue";
import ReachControl from "../components/ReachControl.vue";
import { hostOf, useProvider } from "../composables/partnerpage";
import { kindWords, relative } from "../composables/text";

const route = useRoute();
const router = useRouter();
const { slug, held: provider, error, missing, again, edits, understand, take, proposals } = useProvider();
const { draft, readonly, problemAt } = edits;
const station = computed(() => String(route.query.station ?? "provider-trust"));
const choose = (name: string) => void router.replace({ query: { station: name } });
const lastTrace = ref<string>();
const preview = () => ({ provider: slug.value, draftProvider: draft.value });
const mapping = computed({ get: () => draft.value.mapping ?? [], set: (v) => (draft.value.mapping = v) });
// The same passage, seen from the provider's end.
const stations = computed(() => {
  const s = provider.value?.stations ?? [];
  return ["matching", "mapping-in", "provider-trust"].map((n) => s.find((x) => x.name === n)!).filter(Boolean);
});
const end = computed(() => {
  const p = provider.value!;
  const id = hostOf(
    p.saml?.entityId ??
      p.oidc?.issuer ??
      p.oidc?.authorizationEndpoint ??
      p.ldap?.servers?.[0] ??
      p.kerberos?.realms?.[0],
  );
  return {
    title: p.name,
    lines: [
      id || (p.kind === "directory" ? "at the gate itself" : "nothing taken yet"),
      p.lastSignIn ? `last sign-in ${relative(new Date(p.lastSignIn))}` : "no sign-in yet",
    ],
  };
});
</script>

<template>
  <ObjectFrame
    kind="provider"
    :slug="slug"
    :object="provider"
    :station="station"
    :edits="edits"
    :proposals="proposals"
    :error="error"
    :missing="missing"
    price="Its traces and journal lines stay."
    nobody="Nobody has signed in through it yet."
    @station="choose"
    @traces="lastTrace = $event"
  >
    <template #about
      >{{ kindWords[provider!.kind] }} provider<template v-if="provider!.description">
        · {{ provider!.description }}</template
      >
    </template>
    <template #next>
      <ElButton v-if="provider!.kind !== 'directory'" @click="router.push(`/providers/${slug}/exchange`)"
        >Exchange sheet</ElButton
      >
      <ElButton type="primary" @click="choose('reach')">Open or close</ElButton>
    </template>
    <template #passage>
      <Passage :application="null" :providers="[end]" :stations="stations" :active="station" @choose="choose">
        <template #applications>
          <h2>{{ provider!.serves?.length || "No" }} application{{ provider!.serves?.length === 1 ? "" : "s" }}</h2>
          <p v-for="a in (provider!.serves ?? []).slice(0, 6)" :key="a.slug">
            <RouterLink :to="`/applications/${a.slug}`">{{ a.name }}</RouterLink>
          </p>
          <p v-if="(provider!.serves?.length ?? 0) > 6">
            <RouterLink :to="`/applications?provider=${slug}`">all of them</RouterLink>
          </p>
        </template>
      </Passage>
    </template>
    <template v-if="station === 'reach'">
      <h2>Reach</h2>
      <ReachControl kind="providers" :object="provider!" :readonly="readonly" @changed="again()" />
    </template>
    <DirectoryForm v-else-if="provider!.kind === 'directory'" />
    <template v-else-if="station === 'mapping-in'">
      <h2>Mapping in: what {{ provider!.name }} sends</h2>
      <MappingEditor
        v-model="mapping"
        direction="in"
        :readonly="readonly"
        :sample="lastTrace"
        :preview="preview"
        :problem-at="problemAt"
      />
    </template>
    <template v-else-if="station === 'matching'">
      <h2>Matching: who a person is</h2>
      <MatchingForm :provider="provider!" />
      <details>
        <summary>What identifies a person there</summary>
        <ProviderForm :provider="provider!" part="matching" />
      </details>
    </template>
    <ProviderTrust v-else :provider="provider!" :understand="understand" :take="take" @changed="again()" />
  </ObjectFrame>
</template>
