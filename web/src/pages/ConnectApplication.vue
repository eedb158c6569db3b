<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, nextTick, watch } from "vue";
import { useRouter } from "vue-router";
import { http, ok } from "../api/client";
import AccessEditor from "../components/AccessEditor.vue";
import ApplicationForm from "../components/ApplicationForm.vue";
import AssignmentList from "../components/AssignmentList.vue";
import GiveOurs from "../components/GiveOurs.vue";
import MappingEditor from "../components/MappingEditor.vue";
import ProviderChoice from "../components/ProviderChoice.vue";
import ReachControl from "../components/ReachControl.vue";
import RehearsePanel from "../components/RehearsePanel.vue";
import SecretPanel from "../components/SecretPanel.vue";
import SaveBar from "../components/SaveBar.vue";
import StepNav from "../components/StepNav.vue";
import StepTitle from "../components/StepTitle.vue";
import SubjectForm from "../components/SubjectForm.vue";
import TakeTheirs from "../components/TakeTheirs.vue";
import { useLoad } from "../composables/load";
import { connecting, wantsSecret } from "../composables/connecting";
import type { Edits } from "../composables/edits";
import { useApplication } from "../composables/partnerpage";
import { useSteps } from "../composables/steps";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const { slug, held: application, error, again, edits, understand, take } = useApplication({ goes: true });
const { draft, problemAt } = edits;
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
const preview = () => ({ application: slug.value, draftApplication: draft.value });
const mapping = computed({ get: () => draft.value.mapping ?? [], set: (v) => (draft.value.mapping = v) });
// The sheet says what the mapping promises, so it is another one when the application is.
watch(
  () => application.value?.revision,
  () => void sheetAgain(),
);
const usesSecret = computed(() => wantsSecret(application.value));
const states = computed(() =>
  application.value
    ? connecting(application.value, {
        assigned: !!assigned.value?.items.length,
        tried: !!tried.value?.items.length,
      })
    : [],
);
const next = computed(() => states.value.find((s) => !s.done));
/** Opens a step and goes there, with the keyboard's focus as well. */
async function goTo(id: string) {
  show(id);
  await nextTick();
  const header = document.querySelector<HTMLElement>(`#${id} .el-collapse-item__header`);
  header?.scrollIntoView({ block: "start" });
  header?.focus();
}
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
    <StepNav :steps="states" :next="next" @go="goTo" />
    <p v-if="next" class="hint">
      Next: <a :href="`#${next.id}`" @click.prevent="goTo(next.id)">{{ next.title.toLowerCase() }}</a>
    </p>
    <div class="beside">
      <ElCollapse v-model="open" class="stations">
        <ElCollapseItem id="give" name="give">
          <template #title><StepTitle :step="states.find((s) => s.id === 'give')!" /></template>
          <p class="row">
            <ElButton @click="router.push(`/applications/${slug}/exchange`)">Whole exchange sheet</ElButton>
          </p>
          <GiveOurs v-if="sheet" class="in-step" :sheet="sheet" short />
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
            <ApplicationForm :application="application" part="values" />
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
            <ApplicationForm :application="application" part="options" />
          </details>
        </ElCollapseItem>
        <ElCollapseItem id="map" name="map">
          <template #title><StepTitle :step="states.find((s) => s.id === 'map')!" /></template>

          <MappingEditor
            v-model="mapping"
            direction="out"
            :openid="!!application.oidc"
            :preview="preview"
            :problem-at="problemAt"
          />
          <details>
            <summary>The person's identifier</summary>
            <SubjectForm :application="application" />
          </details>
        </ElCollapseItem>
        <ElCollapseItem id="who" name="who">
          <template #title><StepTitle :step="states.find((s) => s.id === 'who')!" /></template>

          <ProviderChoice />
          <AccessEditor />
          <AssignmentList v-if="application.access?.to !== 'everybody'" :slug="slug" @changed="assignedAgain()" />
        </ElCollapseItem>
        <ElCollapseItem id="rehearse" name="rehearse">
          <template #title><StepTitle :step="states.find((s) => s.id === 'rehearse')!" /></template>

          <RehearsePanel :application="application" @focusin="triedAgain()" />
        </ElCollapseItem>
        <ElCollapseItem id="open" name="open">
          <template #title><StepTitle :step="states.find((s) => s.id === 'open')!" /></template>

          <ReachControl kind="applications" :object="application" :readonly="!session.engineer" @changed="again()" />
        </ElCollapseItem>
      </ElCollapse>
      <aside v-if="sheet" class="panel" aria-label="Our values for them">
        <h2>Give ours</h2>
        <GiveOurs :sheet="sheet" short />
      </aside>
    </div>
    <SaveBar :edits="edits as unknown as Edits<object>" />
  </template>
</template>

<style scoped>
.hint {
  margin: 10px 0 0;
}
/* On wide screens our values stand beside the form that takes theirs. */
.beside {
  display: grid;
  gap: 20px;
  align-items: start;
}
aside {
  display: none;
}
@media (min-width: 1240px) {
  .beside {
    grid-template-columns: minmax(0, 1fr) 340px;
  }
  aside {
    display: block;
    position: sticky;
    top: 12px;
    margin-top: 18px;
  }
  .in-step {
    display: none;
  }
}
</style>
