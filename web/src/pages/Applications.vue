<script setup lang="ts">
import type { Application } from "../api/client";
import PartnerList from "../components/PartnerList.vue";

const last = {
  label: "Providers",
  words: (p: object) => ((p as Application).providers ?? []).join(", ") || "–",
};
</script>

<template>
  <PartnerList
    kind="applications"
    title="Applications"
    about="What people sign in to."
    connect="Connect an application"
    :kinds="['saml', 'oidc', 'guarded', 'link']"
    :last="last"
  >
    <template #empty>
      <p>
        An application is a business system that people sign in to. Connect the first one from its metadata, or from a
        list of values.
      </p>
      <RouterLink to="/applications/new">Connect an application</RouterLink>
    </template>
  </PartnerList>
</template>
