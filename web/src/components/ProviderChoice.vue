<script setup lang="ts">
import { computed, ref } from "vue";
import { http, ok, type ApplicationConfig } from "../api/client";
import { useEditing } from "../composables/edits";
import { useLoad } from "../composables/load";
import ReachTag from "./ReachTag.vue";

const { draft, readonly } = useEditing<ApplicationConfig>();
const search = ref("");
const { data, error } = useLoad(
  () => ok(http.GET("/providers", { params: { query: { search: search.value, limit: 30 } } })),
  [search],
);
const chosen = computed({ get: () => draft.value.providers ?? [], set: (v) => (draft.value.providers = v) });
// Those that are chosen stand there whatever is searched for.
const hidden = computed(() => chosen.value.filter((slug) => !data.value?.items.some((p) => p.slug === slug)));
</script>

<template>
  <fieldset :disabled="readonly">
    <legend>People sign in with</legend>
    <ElInput
      v-if="(data?.items.length ?? 0) > 8 || search"
      v-model="search"
      type="search"
      aria-label="Search providers"
      placeholder="Search providers"
    />
    <ElCheckboxGroup v-model="chosen" :disabled="readonly">
      <ElCheckbox v-for="slug in data ? hidden : []" :key="slug" :value="slug" class="one mono">{{ slug }}</ElCheckbox>
      <ElCheckbox v-for="p in data?.items ?? []" :key="p.slug" :value="p.slug" class="one"
        >{{ p.name }} <ReachTag :reach="p.reach" /><br /><span class="mono soft">{{
          p.saml?.entityId ?? p.oidc?.issuer ?? p.oidc?.authorizationEndpoint
        }}</span></ElCheckbox
      >
    </ElCheckboxGroup>
    <p v-if="data && !data.items.length && !search" class="soft">
      There is no provider yet. <RouterLink to="/providers/new">Connect one first.</RouterLink>
    </p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </fieldset>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
}
legend {
  font-weight: 700;
  font-size: 14px;
  padding: 0;
  margin-bottom: 6px;
}
.one {
  display: flex;
  gap: 10px;
  align-items: flex-start;
  margin-bottom: 10px;
}
</style>
