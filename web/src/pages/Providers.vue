<script setup lang="ts">
import type { Provider } from "../api/client";
import PartnerList from "../components/PartnerList.vue";

const newcomers: Record<string, string> = { create: "created", ask: "asked", pass: "passed through" };
const last = {
  label: "Strangers",
  words: (p: object) => {
    const { kind, admission } = p as Provider;
    return kind === "directory" ? "–" : (newcomers[admission ?? ""] ?? "refused");
  },
};
</script>

<template>
  <PartnerList
    kind="providers"
    title="Providers"
    about="Who vouches for people."
    connect="Connect a provider"
    :kinds="['saml', 'oidc', 'oauth2', 'directory', 'ldap', 'kerberos']"
    :last="last"
  >
    <template #empty>
      <p>
        A provider vouches for people: it is where they have their account. Connect the first one from its metadata.
      </p>
      <RouterLink to="/providers/new">Connect a provider</RouterLink>
    </template>
  </PartnerList>
</template>
