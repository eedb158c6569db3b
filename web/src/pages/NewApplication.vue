<script setup lang="ts">
import { useRouter } from "vue-router";
import { http, ok, type TakeIn, type Understood } from "../api/client";
import NewPartner from "../components/NewPartner.vue";
import type { Choice } from "../composables/choices";

const router = useRouter();
const kinds: Choice[] = [
  ["saml", "SAML 2.0"],
  ["oidc", "OpenID Connect"],
  ["guarded", "no protocol: the gate stands in front of it"],
  ["link", "no protocol: a plain link"],
];
async function make({ name, kind, understood }: { name: string; kind: string; understood?: Understood }) {
  const a = understood?.application;
  const body = a ? { ...a, name: name || a.name } : { slug: "", name, kind, reach: "draft", subject: {} };
  return (await ok(http.POST("/applications", { body }))).slug;
}
const take = (slug: string, body: TakeIn) =>
  ok(http.POST("/applications/{slug}/take", { params: { path: { slug } }, body }));
const open = (slug: string) => router.push(`/applications/${slug}/connect`);
</script>

<template>
  <NewPartner
    side="application"
    has="metadata, SAML or OpenID Connect"
    :kinds="kinds"
    :make="make"
    :take="take"
    :open="open"
  />
</template>
