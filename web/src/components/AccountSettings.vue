<script setup lang="ts">
import { computed, ref, watch } from "vue";
import type { ApplicationConfig, Circle } from "../api/client";
import { useEditing } from "../composables/edits";
import { readCircle, writeCircle } from "../composables/circle";
import DraftField from "./DraftField.vue";
import MappingEditor from "./MappingEditor.vue";

/** Where an application's accounts are, whose are kept, with which values, and how carefully. */
const props = defineProps<{
  slug: string;
  readonly: boolean;
  settable: string[];
  /** The newest sign-in, with which the mapping is shown at first. */
  sample?: string;
}>();
const { draft, problemAt } = useEditing<ApplicationConfig>();
const mapping = computed({
  get: () => draft.value.accounts?.mapping ?? [],
  set: (v) => (draft.value.accounts!.mapping = v),
});
const circle = ref(readCircle((draft.value.accounts?.circle as Circle | undefined) ?? undefined));
watch(circle, (row) => draft.value.accounts && (draft.value.accounts.circle = writeCircle(row)), { deep: true });
const preview = () => ({ application: props.slug, draftApplication: draft.value, account: true });
const by = computed(() => draft.value.accounts?.proveBy || "token");
</script>

<template>
  <details :open="!draft.accounts?.address || draft.accounts.address === 'https://'">
    <summary>Where, who and how</summary>
    <DraftField
      path="accounts.on"
      label="Send"
      as="check"
      hint="Without it, it is only worked out and compared what would be sent."
    />
    <DraftField
      path="accounts.address"
      label="Base address of its SCIM service"
      placeholder="https://ledger.saltmere.example/scim/v2"
      hint="/Users is right behind it. If it changes its host, the token is forgotten."
    />
    <DraftField
      path="accounts.proveBy"
      label="How the gate proves who it is"
      as="choice"
      usual="token"
      :options="[
        ['token', 'by a bearer token'],
        ['oauth', 'by client credentials (OAuth 2.0)'],
        ['basic', 'by a user name and password'],
      ]"
    />
    <template v-if="by === 'oauth'">
      <DraftField path="accounts.tokenUrl" label="Token endpoint" />
      <DraftField path="accounts.clientId" label="Client ID" />
      <DraftField path="accounts.scope" label="Scope" />
    </template>
    <DraftField v-if="by === 'basic'" path="accounts.user" label="User name" />
    <DraftField
      path="accounts.who"
      label="Who has an account"
      as="choice"
      usual="assigned"
      :options="[
        ['assigned', 'whoever is assigned, by name or through a group'],
        ['everybody', 'everybody who is known and active'],
        ['circle', 'a circle'],
      ]"
    />
    <template v-if="draft.accounts?.who === 'circle'">
      <DraftField
        v-model="circle.groups"
        path="accounts.circle"
        label="Groups of the circle"
        hint="Short names, parted by commas."
      />
      <DraftField
        v-model="circle.people"
        path="accounts.circle.people"
        label="People of the circle"
        hint="User names or mail addresses, parted by commas."
      />
      <DraftField
        v-model="circle.exceptPeople"
        path="accounts.circle.except"
        label="But not"
        hint="User names or mail addresses, parted by commas."
      />
    </template>
    <DraftField
      path="accounts.groups"
      label="Groups that go along"
      as="list"
      hint="By short name; a star stands for any letters. Their members are those who have an account."
    />
    <DraftField
      path="accounts.unassigned"
      label="Who may no longer use it"
      as="choice"
      usual="deactivate"
      :options="[
        ['deactivate', 'is deactivated there'],
        ['delete', 'is deleted there'],
        ['leave', 'is left there'],
      ]"
      hint="Whoever is made inactive here is deactivated there at once."
    />
    <DraftField
      path="accounts.approve"
      label="Approval before an account is made"
      as="choice"
      usual="all"
      :options="[
        ['all', 'for each'],
        ['first', 'for the first ones'],
        ['none', 'for none'],
      ]"
    />
    <DraftField
      v-if="draft.accounts?.approve === 'first'"
      path="accounts.approveFirst"
      label="How many first ones"
      as="number"
    />
    <DraftField
      path="accounts.drift"
      label="What the application changes by itself"
      as="choice"
      usual="correct"
      :options="[
        ['correct', 'is set right'],
        ['tell', 'is told'],
        ['accept', 'is accepted: it is its own from then on'],
      ]"
    />
    <DraftField path="accounts.compareHours" label="Hours between comparisons" as="number" hint="24 unless set." />
    <DraftField
      path="accounts.goneShare"
      label="Share that may go at once, in percent"
      as="number"
      hint="10 unless set. More stops, and asks with names."
    />
    <DraftField
      path="accounts.perMinute"
      label="Requests a minute"
      as="number"
      hint="As many as it takes unless set."
    />
  </details>
  <details>
    <summary>Values of an account</summary>
    <p class="soft">
      Names are SCIM paths, such as <span class="mono">name.givenName</span> or
      <span class="mono">emails[type eq "work"].value</span>. Those that the application knows are offered while you
      type.
    </p>
    <MappingEditor
      v-model="mapping"
      direction="out"
      :readonly="readonly"
      :settable="settable"
      :sample="sample"
      :preview="preview"
      :problem-at="(p: string) => problemAt('accounts.' + p) || problemAt('accounts.' + p + '.set')"
    />
  </details>
</template>
