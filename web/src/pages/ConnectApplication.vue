<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { useRouter } from "vue-router";
import { applicationConfig, http, ok, type Rule } from "../api/client";
import AccessEditor from "../components/AccessEditor.vue";
import AccountCheck from "../components/AccountCheck.vue";
import ApplicationForm from "../components/ApplicationForm.vue";
import AssignmentList from "../components/AssignmentList.vue";
import GiveOurs from "../components/GiveOurs.vue";
import MappingEditor from "../components/MappingEditor.vue";
import ProviderChoice from "../components/ProviderChoice.vue";
import ReachControl from "../components/ReachControl.vue";
import RehearsePanel from "../components/RehearsePanel.vue";
import SecretPanel from "../components/SecretPanel.vue";
import StepTitle from "../components/StepTitle.vue";
import TakeTheirs from "../components/TakeTheirs.vue";
import { useApplication } from "../composables/application";
import { useLoad } from "../composables/load";
import { useSteps } from "../composables/steps";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const { slug, application, error, again, save, understand, take } = useApplication();
const { data: sheet, again: sheetAgain } = useLoad(
  () => ok(http.GET("/applications/{slug}/exchange", { params: { path: { slug: slug.value } } })),
  [slug],
);
const { data: tried, again: triedAgain } = useLoad(
  () => ok(http.GET("/traces", { params: { query: { application: slug.value, outcome: "signed-in", limit: 1 } } })),
  [slug],
);

const { data: assigned, again: assignedAgain } = useLoad(
  () =>
    ok(http.GET("/applications/{slug}/assignments", { params: { path: { slug: slug.value }, query: { limit: 1 } } })),
  [slug],
);
const letIn = computed(() => application.value?.access?.to === "everybody" || !!assigned.value?.items.length);
const previewMapping = (mapping: Rule[]) => ({
  application: slug.value,
  draftApplication: { ...applicationConfig(application.value!), mapping },
});
const saveMapping = async (mapping: Rule[]) => {
  await save((held) => ({ ...held, mapping }));
  await sheetAgain();
};
const taken = computed(() =>
  application.value?.guarded
    ? !!application.value.guarded.publicUrl && !!application.value.guarded.upstreams?.length
    : application.value?.kind === "link"
      ? !!application.value.startUrl
      : application.value?.oidc
        ? !!application.value.oidc.redirectUris?.length
        : !!application.value?.saml?.entityId && !!application.value.saml.acs?.length,
);
const held = computed(() =>
  application.value?.guarded
    ? "public and inner address"
    : application.value?.kind === "link"
      ? "address"
      : application.value?.oidc
        ? "redirect URI"
        : "entity ID and ACS URL",
);
const usesSecret = computed(() =>
  ["client_secret_basic", "client_secret_post"].includes(application.value?.oidc?.authentication ?? ""),
);
const states = computed(() => {
  const a = application.value;
  if (!a) return [];
  return [
    {
      id: "give",
      title: "Give ours",
      done: !usesSecret.value || !!a.secrets?.length,
      text: usesSecret.value && !a.secrets?.length ? "it has no client secret yet" : "ready since the draft was made",
    },
    {
      id: "take",
      title: "Take theirs",
      done: taken.value,
      text: taken.value ? `${held.value} held` : `${held.value} missing`,
    },
    {
      id: "map",
      title: "Map",
      done: !!a.mapping?.length,
      text: a.mapping?.length ? `${a.mapping.length} attributes` : "no attributes yet",
    },
    {
      id: "who",
      title: "Who gets in",
      done: !!a.providers?.length && letIn.value,
      text: !a.providers?.length ? "choose a provider" : letIn.value ? a.providers.join(", ") : "nobody is assigned",
    },
    {
      id: "rehearse",
      title: "Rehearse",
      done: !!tried.value?.items.length,
      text: tried.value?.items.length ? "a sign-in went through" : "not tried yet",
    },
    { id: "open", title: "Open", done: a.reach === "everyone", text: a.reach },
  ];
});
const next = computed(() => states.value.find((s) => !s.done));
const { open, show } = useSteps(slug, () => !!application.value && !!tried.value && !!assigned.value && next.value);
</script>

<template>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="application">
    <div class="head">
      <div>
        <h1>Connect {{ application.name }}</h1>
        <p class="sub">In any order. What you enter is kept; you can leave and come back.</p>
      </div>
      <ElButton @click="router.push(`/applications/${slug}`)">Its page</ElButton>
    </div>
    <nav class="steps" aria-label="Steps">
      <a
        v-for="s in states"
        :key="s.id"
        :href="`#${s.id}`"
        :class="{ done: s.done, next: s === next }"
        @click="show(s.id)"
        ><b
          ><span aria-hidden="true">{{ s.done ? "✓" : "○" }}</span> {{ s.title }}</b
        ><span>{{ s.text }}</span></a
      >
    </nav>
    <p v-if="next" class="hint">
      Next: <a :href="`#${next.id}`" @click="show(next.id)">{{ next.title.toLowerCase() }}</a>
    </p>
    <ElCollapse v-model="open" class="stations">
      <ElCollapseItem id="give" name="give">
        <template #title><StepTitle :step="states.find((s) => s.id === 'give')!" /></template>
        <p class="row">
          <ElButton @click="router.push(`/applications/${slug}/exchange`)">Whole exchange sheet</ElButton>
        </p>
        <GiveOurs v-if="sheet" :sheet="sheet" short />
        <SecretPanel
          v-if="usesSecret"
          kind="applications"
          :slug="slug"
          :secrets="application.secrets ?? []"
          @changed="again()"
        />
      </ElCollapseItem>
      <ElCollapseItem id="take" name="take">
        <template #title><StepTitle :step="states.find((s) => s.id === 'take')!" /></template>

        <TakeTheirs v-if="application.saml || application.oidc" :understand="understand" :take="(i) => take(i)" />
        <details :open="application.reach === 'draft'">
          <summary>Field by field</summary>
          <ApplicationForm :application="application" part="values" :save="save" />
        </details>
        <details>
          <summary>
            {{
              application.oidc
                ? "Options of scopes, tokens and flows"
                : application.guarded
                  ? "Paths and connections"
                  : "Options of signing, encryption and flows"
            }}
          </summary>
          <ApplicationForm :application="application" part="options" :save="save" />
        </details>
      </ElCollapseItem>
      <ElCollapseItem id="map" name="map">
        <template #title><StepTitle :step="states.find((s) => s.id === 'map')!" /></template>

        <MappingEditor
          :mapping="application.mapping ?? []"
          direction="out"
          :openid="!!application.oidc"
          :preview="previewMapping"
          :save="saveMapping"
        />
        <details>
          <summary>The person's identifier</summary>
          <AccountCheck :key="application.revision" :application="application" :save="save" />
        </details>
      </ElCollapseItem>
      <ElCollapseItem id="who" name="who">
        <template #title><StepTitle :step="states.find((s) => s.id === 'who')!" /></template>

        <ProviderChoice :application="application" :save="save" />
        <AccessEditor :application="application" :save="save" />
        <AssignmentList v-if="application.access?.to !== 'everybody'" :slug="slug" @changed="assignedAgain()" />
      </ElCollapseItem>
      <ElCollapseItem id="rehearse" name="rehearse">
        <template #title><StepTitle :step="states.find((s) => s.id === 'rehearse')!" /></template>

        <RehearsePanel :key="application.revision" :application="application" @focusin="triedAgain()" />
      </ElCollapseItem>
      <ElCollapseItem id="open" name="open">
        <template #title><StepTitle :step="states.find((s) => s.id === 'open')!" /></template>

        <ReachControl kind="applications" :object="application" :readonly="!session.engineer" @changed="again()" />
      </ElCollapseItem>
    </ElCollapse>
  </template>
</template>

<style scoped>
.steps {
  display: grid;
  grid-template-columns: repeat(6, minmax(0, 1fr));
  border: 1px solid var(--rule);
  border-radius: 4px;
  background: var(--card);
}
.steps a {
  padding: 10px 14px;
  text-decoration: none;
  color: var(--ink);
  border-right: 1px solid var(--hair);
  font-size: 14px;
}
.steps a:last-child {
  border: 0;
}
.steps span {
  display: block;
  color: var(--soft);
  font-size: 13px;
}
.steps b span {
  display: inline;
  color: inherit;
}
.steps .done b {
  color: var(--moss);
}
.steps .next {
  box-shadow: inset 0 -3px 0 var(--brass-line);
}
.hint {
  margin: 10px 0 0;
}
details {
  margin-top: 14px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
  margin-bottom: 8px;
}
@media (max-width: 900px) {
  .steps {
    grid-template-columns: repeat(3, 1fr);
  }
}
</style>
