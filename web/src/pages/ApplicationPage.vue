<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { applicationConfig, http, ok, type Rule } from "../api/client";
import AccessEditor from "../components/AccessEditor.vue";
import AccountCheck from "../components/AccountCheck.vue";
import ApplicationForm from "../components/ApplicationForm.vue";
import AssignmentList from "../components/AssignmentList.vue";
import CertificateTable from "../components/CertificateTable.vue";
import CopyValue from "../components/CopyValue.vue";
import FindingList from "../components/FindingList.vue";
import MetadataWatch from "../components/MetadataWatch.vue";
import MappingEditor from "../components/MappingEditor.vue";
import ObjectHead from "../components/ObjectHead.vue";
import Passage from "../components/Passage.vue";
import ProposeBar from "../components/ProposeBar.vue";
import ProviderChoice from "../components/ProviderChoice.vue";
import ReachControl from "../components/ReachControl.vue";
import SecretPanel from "../components/SecretPanel.vue";
import RehearsePanel from "../components/RehearsePanel.vue";
import SessionForm from "../components/SessionForm.vue";
import TakeTheirs from "../components/TakeTheirs.vue";
import TraceTable from "../components/TraceTable.vue";
import WhoGetsIn from "../components/WhoGetsIn.vue";
import { useApplication } from "../composables/application";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";
import { kindWords, relative } from "../composables/text";

const session = useSession();
const route = useRoute();
const router = useRouter();
const { slug, application, error, missing, again, save, understand, take, proposals } = useApplication();
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
const lastTrace = computed(() => traces.value?.items.find((t) => t.outcome === "signed-in")?.reference);
const { data: traces } = useLoad(
  () => ok(http.GET("/traces", { params: { query: { application: slug.value, limit: 5 } } })),
  [slug],
);
const who = ref<InstanceType<typeof WhoGetsIn> | null>(null);
const previewMapping = (mapping: Rule[]) => ({
  application: slug.value,
  draftApplication: { ...applicationConfig(application.value!), mapping },
});
const saveMapping = (mapping: Rule[]) => save((held) => ({ ...held, mapping }));
const usesSecret = computed(() =>
  ["client_secret_basic", "client_secret_post"].includes(application.value?.oidc?.authentication ?? ""),
);
const speaks = computed(() => ["saml", "oidc"].includes(application.value?.kind ?? ""));
const host = (id?: string) => id?.replace(/^https?:\/\//, "").split("/")[0] ?? "";
const { error: removeError, act } = useAct();
async function remove() {
  if (
    !(await sure(
      `Delete ${application.value!.name}? Nobody can sign in to it through the gate afterwards. Its traces and journal lines stay.`,
      "Delete it",
    ))
  )
    return;
  await act(async () => {
    await ok(http.DELETE("/applications/{slug}", { params: { path: { slug: slug.value } } }));
    await router.push("/applications");
  });
}
/** What was found where the page stands. */
const here = computed(() => (application.value?.findings ?? []).filter((f) => f.station === station.value));
</script>

<template>
  <div v-if="missing" class="panel empty">
    <p>There is no application of this name.</p>
    <RouterLink to="/applications">All applications</RouterLink>
  </div>
  <p v-else-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="application">
    <ObjectHead
      :name="application.name"
      kind="application"
      :slug="slug"
      :reach="application.reach"
      :findings="application.findings ?? []"
      :engineer="session.engineer"
      @station="choose"
      @remove="remove"
    >
      <template #about
        >{{ kindWords[application.kind] }} application<template v-if="application.description">
          · {{ application.description }}</template
        ><template v-if="application.contact"> · {{ application.contact }}</template>
      </template>
      <ElButton v-if="session.engineer" @click="router.push(`/applications/${slug}/connect`)"
        >Connect, step by step</ElButton
      >
      <ElButton v-if="application.kind !== 'link'" @click="router.push(`/applications/${slug}/exchange`)"
        >Exchange sheet</ElButton
      >
      <ElButton type="primary" @click="choose('rehearse')">Rehearse</ElButton>
    </ObjectHead>
    <ProposeBar v-if="session.engineer" :proposals="proposals" kind="application" :slug="slug" />
    <Passage
      :application="{
        title: application.name,
        lines: [
          (application.oidc
            ? application.oidc.redirectUris?.length && application.oidc.clientId
            : host(
                application.saml?.entityId ??
                  application.guarded?.publicUrl ??
                  (application.kind === 'link' ? application.startUrl : ''),
              )) || 'nothing taken yet',
          application.lastSignIn ? `last sign-in ${relative(new Date(application.lastSignIn))}` : 'no sign-in yet',
        ],
      }"
      :providers="
        (application.providedBy ?? []).map((p) => ({
          title: p.name,
          name: p.slug,
          to: `/providers/${p.slug}`,
          lines: [host(p.entityId), `${kindWords[p.kind] ?? p.kind} provider · ${p.reach}`],
        }))
      "
      :stations="stations"
      :active="station"
      :through="through"
      @choose="choose"
      @through="chooseProvider"
    />
    <section class="panel" aria-live="polite">
      <FindingList v-if="here.length" class="here" :findings="here" />
      <p v-if="station === 'application-trust' || station === 'access'" class="row begin">
        <b class="small">Start address at the gate</b>
        <CopyValue :value="application.startOurs" label="the start address" />
      </p>
      <template v-if="station === 'application-trust'"
        ><h2>Trust: what is held of {{ application.name }}</h2>
        <CertificateTable v-if="application.saml" :certificates="application.certificateDetails ?? []" />
        <TakeTheirs v-if="session.engineer && speaks" :understand="understand" :take="(i) => take(i)" />
        <MetadataWatch
          v-if="application.saml"
          kind="applications"
          :slug="slug"
          :watch="application.watch"
          :readonly="!session.engineer"
          @changed="again()" />
        <SecretPanel
          v-else-if="usesSecret"
          kind="applications"
          :slug="slug"
          :secrets="application.secrets ?? []"
          :readonly="!session.engineer"
          @changed="again()" />
        <details :open="!speaks || (!!application.oidc && !application.oidc.redirectUris?.length)">
          <summary>Values, field by field</summary>
          <ApplicationForm :application="application" part="values" :readonly="!session.engineer" :save="save" />
        </details>
        <details v-if="application.kind !== 'link'">
          <summary>{{ speaks ? "Options" : "Paths and connections" }}</summary>
          <ApplicationForm :application="application" part="options" :readonly="!session.engineer" :save="save" />
        </details>
        <details>
          <summary>Sessions, signing out and tiles</summary>
          <SessionForm :application="application" :readonly="!session.engineer" :save="save" /></details
      ></template>
      <template v-else-if="station === 'mapping-out'"
        ><h2>Mapping out: what {{ application.name }} receives</h2>
        <MappingEditor
          :mapping="application.mapping ?? []"
          direction="out"
          :openid="!!application.oidc"
          :readonly="!session.engineer"
          :sample="lastTrace"
          :preview="previewMapping"
          :save="saveMapping" />
        <details>
          <summary>
            The person's identifier ({{
              application.oidc ? "sub" : application.saml ? "NameID" : "as the gate knows it"
            }})
          </summary>
          <AccountCheck
            :key="application.revision"
            :application="application"
            :readonly="!session.engineer"
            :save="save"
          /></details
      ></template>
      <template v-else-if="station === 'access'"
        ><h2>Access: who gets in</h2>
        <ReachControl kind="applications" :object="application" :readonly="!session.engineer" @changed="again()" />
        <hr />
        <ProviderChoice :application="application" :readonly="!session.engineer" :save="save" />
        <hr />
        <AccessEditor :application="application" :readonly="!session.engineer" :save="save" />
        <AssignmentList :slug="slug" :readonly="!session.engineer" @changed="who?.again()" />
        <WhoGetsIn v-if="session.engineer" ref="who" :slug="slug" :revision="application.revision" />
      </template>
      <template v-else-if="station === 'rehearse'"
        ><h2>Rehearse</h2>
        <RehearsePanel :application="application" :readonly="!session.engineer"
      /></template>
      <template v-else-if="provider">
        <h2 v-if="station === 'matching'">Matching: who a person is</h2>
        <h2 v-else-if="station === 'mapping-in'">Mapping in: what {{ provider.name }} sends</h2>
        <h2 v-else>Trust: what is held of {{ provider.name }}</h2>
        <template v-if="station === 'matching'"
          ><p v-for="l in provider.stations?.find((s) => s.name === 'matching')?.lines ?? []" :key="l">
            {{ l }}
          </p></template
        >
        <MappingEditor
          v-else-if="station === 'mapping-in'"
          :mapping="provider.mapping ?? []"
          direction="in"
          readonly
          :save="async () => {}"
        />
        <template v-else-if="provider.oidc"
          ><p v-for="l in provider.stations?.find((s) => s.name === 'provider-trust')?.lines ?? []" :key="l">
            {{ l }}
          </p></template
        >
        <CertificateTable v-else :certificates="provider.certificateDetails ?? []" />
        <p>
          <RouterLink :to="`/providers/${provider.slug}?station=${station}`"
            >Change it on the page of {{ provider.name }}</RouterLink
          >
        </p>
      </template>
      <p v-else>No provider is chosen yet. <a href="#" @click.prevent="choose('access')">Choose one</a></p>
    </section>
    <section class="later">
      <h2>Newest sign-ins</h2>
      <TraceTable :traces="traces?.items ?? []" empty="Nobody has signed in to it yet." />
    </section>
    <p v-if="removeError" class="error" role="alert">{{ removeError }}</p>
  </template>
</template>

<style scoped>
.begin {
  margin-top: 0;
}
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
hr {
  border: 0;
  border-top: 1px solid var(--rule);
  margin: 16px 0;
}
.take {
  margin-top: 16px;
}
</style>
