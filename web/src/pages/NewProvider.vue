<script setup lang="ts">
import { useRouter } from "vue-router";
import { http, ok, type TakeIn, type Understood } from "../api/client";
import NewPartner from "../components/NewPartner.vue";
import type { Choice } from "../composables/choices";

const router = useRouter();
const kinds: Choice[] = [
  ["saml", "SAML 2.0"],
  ["oidc", "OpenID Connect"],
  ["oauth2", "OAuth 2.0 without ID tokens"],
  ["ldap", "LDAP: a directory on somebody's premises"],
  ["kerberos", "Kerberos: machines of a realm"],
  ["directory", "nothing: the gate's own people"],
];
async function make({ name, kind, understood }: { name: string; kind: string; understood?: Understood }) {
  const p = understood?.provider;
  const body = p ? { ...p, name: name || p.name } : { slug: "", name, kind, reach: "draft" };
  return (await ok(http.POST("/providers", { body }))).slug;
}
const take = (slug: string, body: TakeIn) =>
  ok(http.POST("/providers/{slug}/take", { params: { path: { slug } }, body }));
const open = (slug: string) => router.push(`/providers/${slug}`);
</script>

<template>
  <NewPartner
    side="provider"
    has="metadata, issuer, discovery document address of a directory or realm"
    :kinds="kinds"
    :make="make"
    :take="take"
    :open="open"
  />
</template>
