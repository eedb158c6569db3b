<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok, type Application, type ApplicationConfig } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import ReachTag from "./ReachTag.vue";

const props = defineProps<{
  application: Application;
  readonly?: boolean;
  save: (change: (held: ApplicationConfig) => ApplicationConfig) => Promise<void>;
}>();
const search = ref("");
const { data, error: listError } = useLoad(
  () => ok(http.GET("/providers", { params: { query: { search: search.value, limit: 30 } } })),
  [search],
);
const chosen = ref<string[]>([]);
watch(
  () => (props.application.providers ?? []).join(),
  () => (chosen.value = [...(props.application.providers ?? [])]),
  { immediate: true },
);
const { error, busy, act } = useAct();
const store = () => act(() => props.save((held) => ({ ...held, providers: chosen.value })));
const changed = () => chosen.value.join() !== (props.application.providers ?? []).join();
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
    <ElCheckboxGroup v-model="chosen">
      <ElCheckbox v-for="p in data?.items ?? []" :key="p.slug" :value="p.slug" class="one"
        >{{ p.name }} <ReachTag :reach="p.reach" /><br /><span class="mono soft">{{
          p.saml?.entityId ?? p.oidc?.issuer ?? p.oidc?.authorizationEndpoint
        }}</span></ElCheckbox
      >
    </ElCheckboxGroup>
    <p v-if="data && !data.items.length && !search" class="soft">
      There is no provider yet. <RouterLink to="/providers/new">Connect one first.</RouterLink>
    </p>
    <ElButton v-if="!readonly" type="primary" :disabled="!changed()" :loading="busy" @click="store"
      >Save the choice</ElButton
    >
    <p v-if="error || listError" class="error" role="alert">{{ error || listError }}</p>
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
