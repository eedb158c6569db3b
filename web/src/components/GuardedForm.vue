<script setup lang="ts">
import { computed } from "vue";
import type { Application, ApplicationConfig } from "../api/client";
import { useEditing } from "../composables/edits";
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";
import GuardedPassword from "./GuardedPassword.vue";
import GuardedPaths from "./GuardedPaths.vue";

defineProps<{ application: Application; part: "values" | "options" }>();
const { draft, readonly } = useEditing<ApplicationConfig>();
const pass = computed(() => draft.value.guarded?.pass);
</script>

<template>
  <template v-if="part === 'values'">
    <CommonValues />
    <template v-if="draft.guarded">
      <DraftField
        path="guarded.publicUrl"
        label="Public address"
        hint="Where people open it: https and a host name that leads to the gate's guard."
      />
      <DraftField
        path="guarded.upstreams"
        label="Inner addresses"
        as="list"
        hint="Where the application listens, reachable for the gate alone."
      />
      <DraftField
        path="guarded.pass"
        label="Identity is passed on"
        as="choice"
        :options="[
          ['headers', 'in headers'],
          ['jwt', 'as a signed token in a header'],
          ['basic', 'as basic credentials'],
          ['none', 'not at all'],
        ]"
        hint="What is passed on is set by the mapping out."
      />
      <GuardedPassword
        v-if="pass === 'basic' && application.guarded?.pass === 'basic' && !readonly"
        :slug="application.slug"
      />
      <DraftField
        v-if="pass === 'jwt'"
        path="guarded.tokenHeader"
        label="Header of the token"
        hint="usually X-Gate-Identity"
      />
    </template>
    <DraftField path="startUrl" :label="draft.guarded ? 'Start address' : 'Address that the link leads to'" />
  </template>
  <template v-else-if="draft.guarded">
    <GuardedPaths :slug="application.slug" />
    <DraftField path="guarded.signOutPath" label="Path that signs out" />
    <DraftField
      path="guarded.healthPath"
      label="Path that tells how it is"
      hint="Asked of each inner address every ten seconds while it is in use."
    />
    <DraftField
      path="guarded.keepHost"
      label="Hand the public host name on"
      as="check"
      hint="Otherwise the application sees its inner one."
    />
    <DraftField
      path="guarded.timeoutSeconds"
      label="Seconds until it must begin to answer"
      as="number"
      hint="usually 60"
    />
  </template>
</template>
