<script setup lang="ts">
import { computed } from "vue";
import type { ProviderConfig } from "../api/client";
import { certificatesIn, certificateText } from "../composables/saml";
import { useEditing } from "../composables/edits";
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";

defineProps<{ part: "values" | "options" | "matching" }>();
const { draft } = useEditing<ProviderConfig>();
const certificates = computed({
  get: () => certificateText(draft.value.ldap?.certificates),
  set: (text: string) => {
    const list = certificatesIn(text, draft.value.ldap?.certificates ?? [], (pem) => ({ pem }));
    draft.value.ldap!.certificates = list.length ? list : undefined;
  },
});
const by = computed({
  get: () => draft.value.ldap?.groups?.by ?? "",
  set: (v: string) => {
    if (v) draft.value.ldap!.groups = { ...draft.value.ldap!.groups, by: v };
    else delete draft.value.ldap!.groups;
  },
});
</script>

<template>
  <template v-if="part === 'values'">
    <CommonValues />
    <DraftField
      path="ldap.servers"
      label="Servers"
      as="list"
      placeholder="ldaps://directory.saltmere.example"
      hint="Asked in this order; one that does not answer is asked last for a while. ldap:// begins TLS by StartTLS."
    />
    <DraftField
      v-model="certificates"
      path="ldap.certificates"
      label="Certificates that are believed"
      as="area"
      :rows="4"
      hint="In PEM: of the authority that signs the servers' certificates, or of the servers themselves. Empty for those that
        this machine believes."
    />
    <DraftField
      path="ldap.bindDn"
      label="As whom the gate searches (DN)"
      hint="Its password is entered above. Empty for nobody, where the directory lets everybody search."
    />
    <DraftField
      path="ldap.bindBy"
      label="How the gate proves who it is"
      as="choice"
      usual="password"
      :options="[
        ['password', 'by a password'],
        ['certificate', 'by a certificate with its key (SASL EXTERNAL)'],
      ]"
      hint="The certificate and its key, in PEM, are then entered in place of the password."
    />
    <DraftField path="ldap.base" label="Base below which people are looked for (DN)" />
    <DraftField
      path="ldap.filter"
      label="Filter by which one person is found"
      usual="(&(objectClass=inetOrgPerson)(uid={name}))"
      hint="{name} stands for what the person enters. Exactly one entry must be found."
    />
    <DraftField
      path="ldap.pattern"
      label="Or the person's DN with {name} in it"
      hint="Then nothing is searched before the password is tried: uid={name},ou=people,dc=saltmere,dc=example"
    />
  </template>
  <template v-else-if="part === 'matching'">
    <DraftField
      path="ldap.identifier"
      label="Attribute that stays the same for a person's life"
      usual="entryUUID"
      hint="entryUUID, objectGUID, or another one that no name is part of and that is never given to somebody else."
    />
    <DraftField
      v-model="by"
      path="ldap.groups.by"
      label="Groups are found by"
      as="choice"
      :options="[
        ['', 'none are looked for'],
        ['memberOf', 'the attribute memberOf of the person'],
        ['member', 'groups that name the person: member'],
        ['uniqueMember', 'groups that name the person: uniqueMember'],
        ['memberUid', 'groups that name the uid: memberUid'],
      ]"
    />
    <template v-if="by">
      <DraftField
        path="ldap.groups.depth"
        label="Groups in groups, how deep"
        as="number"
        hint="0 follows none; 10 is the most. A group that is in itself is met once."
      />
      <DraftField
        v-if="by !== 'memberOf'"
        path="ldap.groups.base"
        label="Base below which groups are looked for (DN)"
        hint="Empty for the base of people."
      />
      <DraftField v-if="by !== 'memberOf'" path="ldap.groups.filter" label="Filter that groups must fit as well" />
      <DraftField path="ldap.groups.name" label="Attribute that is a group's name" usual="cn" />
    </template>
  </template>
  <template v-else>
    <DraftField
      path="ldap.attributes"
      label="Further attributes to read"
      as="list"
      hint="Those that the mapping in names are read anyway, and the usual ones."
    />
    <DraftField
      path="ldap.passwordChange"
      label="Whoever must change the password"
      as="choice"
      usual="must"
      :options="[
        ['must', 'does so at sign-in, here'],
        ['off', 'is sent away to do it elsewhere'],
      ]"
    />
    <DraftField
      path="ldap.lookUp.filter"
      label="Look values up here for people who came another way: the filter"
      placeholder="(mail={email})"
      hint="Names of values that came stand in braces. A rule of any provider takes a value by directory:SHORTNAME.attribute.
        Empty where nobody looks anything up here."
    />
    <DraftField
      path="ldap.lookUp.keepSeconds"
      label="Seconds for which what was found holds"
      as="number"
      hint="0 asks each time."
    />
    <DraftField
      path="ldap.lookUp.otherwise"
      label="Where the directory does not answer"
      as="choice"
      usual="refuse"
      :options="[
        ['refuse', 'the sign-in is refused'],
        ['without', 'it goes on without the values'],
      ]"
    />
    <DraftField
      path="ldap.reading.filter"
      label="Read people into the gate: the filter that finds them all"
      placeholder="(objectClass=inetOrgPerson)"
      hint="Whoever it no longer finds is gone, and is made inactive. Empty where nobody is read."
    />
    <template v-if="draft.ldap?.reading">
      <DraftField
        path="ldap.reading.wholeHours"
        label="Hours after which everybody is read anew"
        as="number"
        hint="0 for by hand alone. The first time is by hand in any case."
      />
      <DraftField
        path="ldap.reading.changedMinutes"
        label="Minutes after which changed entries are read"
        as="number"
        hint="0 for never."
      />
      <DraftField
        path="ldap.reading.changedBy"
        label="Attribute with the time of the last change"
        usual="modifyTimestamp"
        hint="modifyTimestamp, or whenChanged in a Windows domain."
      />
      <DraftField
        path="ldap.reading.goneShare"
        label="Percent of its people that may be gone at once"
        as="number"
        hint="Where it is more, it stops and asks; 10 usually."
      />
    </template>
    <DraftField path="ldap.help" label="Whom to ask" plain hint="Stands on the sign-in page." />
    <DraftField
      path="ldap.timeoutSeconds"
      label="Seconds to wait for an answer"
      as="number"
      hint="1 to 30; 5 usually."
    />
    <DraftField
      path="ldap.connections"
      label="Connections at most"
      as="number"
      hint="2 or more; 8 usually. Whoever comes when all are in use waits as long as for an answer."
    />
    <DraftField
      path="ldap.plain"
      label="Without TLS"
      as="check"
      hint="Passwords travel in clear. For a server on this very machine alone."
    />
  </template>
</template>
