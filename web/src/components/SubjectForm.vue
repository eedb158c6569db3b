<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { type Application, type ApplicationConfig, type SubjectChange } from "../api/client";
import { nameIDFormats, type Choice } from "../composables/choices";
import { useEditing } from "../composables/edits";
import { useAct } from "../composables/load";
import { subjectEffect } from "../composables/subject";
import AccountCompare from "./AccountCompare.vue";
import DraftField from "./DraftField.vue";

const props = defineProps<{ application: Application }>();
const { draft, readonly } = useEditing<ApplicationConfig>();
const oidc = computed(() => props.application.kind === "oidc");
const change = ref<SubjectChange | null>(null);
const { error, busy, act } = useAct();
const preview = () =>
  act(async () => {
    change.value = await subjectEffect(props.application.slug, draft.value.subject);
  });
const sources = computed<Choice[]>(() => [
  ["profile", "A value of the profile"],
  ["pairwise", "Random and stable, different at each application"],
  oidc.value ? ["public", "Random and stable, the same at every application"] : ["transient", "New at each sign-in"],
]);
</script>

<template>
  <DraftField
    path="subject.source"
    :label="`The person's identifier (${oidc ? 'sub' : 'NameID'})`"
    as="choice"
    :options="sources"
  />
  <DraftField v-if="draft.subject.source === 'profile'" path="subject.from" label="Profile value" />
  <DraftField
    v-if="!oidc"
    path="subject.format"
    label="NameID format"
    as="choice"
    :options="[['', 'As fits the source'], ...nameIDFormats]"
  />
  <details>
    <summary>Where it travels, and what the application takes</summary>
    <DraftField
      v-if="!oidc && draft.subject.source !== 'transient'"
      path="subject.attribute"
      label="In an attribute of this name"
      hint="In place of the NameID, which is then a new one each time. Empty for the NameID."
    />
    <DraftField
      path="subject.maxLength"
      label="Most characters"
      as="number"
      :hint="`Empty for what the standard allows: ${oidc ? 255 : 256}.`"
    />
    <DraftField
      path="subject.pattern"
      label="Only of this form"
      hint="A pattern for the whole value, such as [a-z0-9]{3,20}. Others are refused before they reach the application."
    />
  </details>
  <p v-if="!readonly"><ElButton :loading="busy" @click="preview">Who would become another user?</ElButton></p>
  <div v-if="change" aria-live="polite">
    <p>
      <b>{{ change.sentence }}</b>
    </p>
    <ElTable
      v-if="change.changed.length || change.failing.length"
      table-layout="auto"
      :data="[...change.failing, ...change.changed].slice(0, 50)"
      row-key="id"
    >
      <ElTableColumn label="Person">
        <template #default="{ row: l }">{{ l.person }}</template>
      </ElTableColumn>
      <ElTableColumn label="Known there as">
        <template #default="{ row: l }">
          <span class="mono">{{ l.account }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Would be">
        <template #default="{ row: l }">
          <span class="mono"
            >{{ l.value }} <span class="soft small">{{ l.why }}</span></span
          >
        </template>
      </ElTableColumn>
    </ElTable>
  </div>
  <details v-if="!readonly">
    <summary>Compare with the application's own accounts</summary>
    <AccountCompare :slug="application.slug" :subject="draft.subject" />
  </details>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
</template>

<style scoped>
details {
  margin: 8px 0 12px;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
  margin-bottom: 6px;
}
</style>
