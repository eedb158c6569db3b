<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import AccessEditor from "../components/AccessEditor.vue";
import AccountStation from "../components/AccountStation.vue";
import ApplicationTrust from "../components/ApplicationTrust.vue";
import AssignmentList from "../components/AssignmentList.vue";
import CopyValue from "../components/CopyValue.vue";
import MappingEditor from "../components/MappingEditor.vue";
import ObjectFrame from "../components/ObjectFrame.vue";
import Passage from "../components/Passage.vue";
import ProviderChoice from "../components/ProviderChoice.vue";
import ProviderGlance from "../components/ProviderGlance.vue";
import ReachControl from "../components/ReachControl.vue";
import RehearsePanel from "../components/RehearsePanel.vue";
import SubjectForm from "../components/SubjectForm.vue";
import WhoGetsIn from "../components/WhoGetsIn.vue";
import { useLoad } from "../composables/load";
import { hostOf, useApplication } from "../composables/partnerpage";
import { kindWords, relative } from "../composables/text";

const route = useRoute();
const router = useRouter();
const { slug, held: application, error, missing, again, edits, understand, take, proposals } = useApplication();
const { draft, readonly, problemAt } = edits;
const station = computed(() => String(route.query.station ?? "mapping-out"));
const choose = (name: string) => void router.replace({ query: { ...route.query, station: name } });
// The right half of the passage is that of one provider: the first, or the one that was chosen.
const through = computed(() => {
  const all = application.value?.providers ?? [];
  const wanted = String(route.query.through ?? "");
  return all.includes(wanted) ? wanted : all[0];
});
const chooseProvider = (name: string) => void router.replace({ query: { ...route.query, through: name } });
const { data: provider } = useLoad(
  async () => (through.value ? ok(http.GET("/providers/{slug}", { params: { path: { slug: through.value } } })) : null),
  [through],
);
const stations = computed(() =>
  (application.value?.stations ?? []).map(
    (s) =>
      (["matching", "mapping-in", "provider-trust"].includes(s.name) &&
        provider.value?.slug === through.value &&
        provider.value?.stations?.find((p) => p.name === s.name)) ||
      s,
  ),
);
const lastTrace = ref<string>();
const who = ref<InstanceType<typeof WhoGetsIn> | null>(null);
const preview = () => ({ application: slug.value, draftApplication: draft.value });
const mapping = computed({ get: () => draft.value.mapping ?? [], set: (v) => (draft.value.mapping = v) });
const subjectName = computed(() =>
  application.value?.oidc ? "sub" : application.value?.saml ? "NameID" : "as the gate knows it",
);

/** The application's own end of the passage. */
const end = computed(() => {
  const a = application.value!;
  const id = a.oidc
    ? a.oidc.redirectUris?.length && a.oidc.clientId
    : hostOf(a.saml?.entityId ?? a.guarded?.publicUrl ?? (a.kind === "link" ? a.startUrl : ""));
  return {
    title: a.name,
    lines: [
      id || "nothing taken yet",
      a.lastSignIn ? `last sign-in ${relative(new Date(a.lastSignIn))}` : "no sign-in yet",
    ],
  };
});
const ends = computed(() =>
  (application.value?.providedBy ?? []).map((p) => ({
    title: p.name,
    name: p.slug,
    to: `/providers/${p.slug}`,
    lines: [hostOf(p.entityId), `${kindWords[p.kind] ?? p.kind} provider · ${p.reach}`],
  })),
);
</script>

<template>
  <ObjectFrame
    kind="application"
    :slug="slug"
    :object="application"
    :station="station"
    :edits="edits"
    :proposals="proposals"
    :error="error"
    :missing="missing"
    price="Nobody can sign in to it through the gate afterwards. Its traces and journal lines stay."
    nobody="Nobody has signed in to it yet."
    @station="choose"
    @traces="lastTrace = $event"
  >
    <template #about
      >{{ kindWords[application!.kind] }} application<template v-if="application!.description">
        · {{ application!.description }}</template
      ><template v-if="application!.contact"> · {{ application!.contact }}</template>
    </template>
    <template #next>
      <ElButton v-if="!readonly" @click="router.push(`/applications/${slug}/connect`)">Connect, step by step</ElButton>
      <ElButton v-if="application!.kind !== 'link'" @click="router.push(`/applications/${slug}/exchange`)"
        >Exchange sheet</ElButton
      >
      <ElButton type="primary" @click="choose('rehearse')">Rehearse</ElButton>
    </template>
    <template #passage>
      <Passage
        :application="end"
        :providers="ends"
        :stations="stations"
        :active="station"
        :through="through"
        @choose="choose"
        @through="chooseProvider"
      />
    </template>
    <ApplicationTrust
      v-if="station === 'application-trust'"
      :application="application!"
      :understand="understand"
      :take="take"
      @changed="again()"
    />
    <template v-else-if="station === 'mapping-out'">
      <h2>Mapping out: what {{ application!.name }} receives</h2>
      <MappingEditor
        v-model="mapping"
        direction="out"
        :openid="!!application!.oidc"
        :readonly="readonly"
        :sample="lastTrace"
        :preview="preview"
        :problem-at="problemAt"
      />
      <details>
        <summary>The person's identifier ({{ subjectName }})</summary>
        <SubjectForm :application="application!" />
      </details>
      <p v-if="!application!.accounts && !readonly" class="soft">
        Accounts there are nobody's business of the gate yet.
        <ElButton link type="primary" @click="choose('accounts')">Keep them in step</ElButton>
      </p>
    </template>
    <AccountStation
      v-else-if="station === 'accounts'"
      :key="slug"
      :slug="slug"
      :name="application!.name"
      :kept="!!application!.accounts"
      :readonly="readonly"
      :sample="lastTrace"
      @changed="again()"
    />
    <template v-else-if="station === 'access'">
      <p class="row begin">
        <b class="small">Start address at the gate</b>
        <CopyValue :value="application!.startOurs" label="the start address" />
      </p>
      <h2>Access: who gets in</h2>
      <ReachControl kind="applications" :object="application!" :readonly="readonly" @changed="again()" />
      <hr />
      <ProviderChoice />
      <hr />
      <AccessEditor />
      <AssignmentList :slug="slug" :readonly="readonly" @changed="who?.again()" />
      <WhoGetsIn v-if="!readonly" ref="who" :slug="slug" :revision="application!.revision" />
    </template>
    <template v-else-if="station === 'rehearse'">
      <h2>Rehearse</h2>
      <RehearsePanel :application="application!" :readonly="readonly" />
    </template>
    <ProviderGlance v-else-if="provider" :key="provider.slug + station" :provider="provider" :station="station" />
    <p v-else>No provider is chosen yet. <a href="#" @click.prevent="choose('access')">Choose one</a></p>
  </ObjectFrame>
</template>

<style scoped>
.begin {
  margin-top: 0;
}
hr {
  border: 0;
  border-top: 1px solid var(--rule);
  margin: 16px 0;
}
</style>
