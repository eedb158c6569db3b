<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type ProviderConfig } from "../api/client";
import { useEditing } from "../composables/edits";
import { useAct, useLoad } from "../composables/load";
import { sure } from "../composables/sure";
import CopyValue from "./CopyValue.vue";
import DraftField from "./DraftField.vue";
import TimeText from "./TimeText.vue";

/** How a provider pushes its people to the gate: where, with which tokens, and with which habits. */
const props = defineProps<{ slug: string; kept: boolean; readonly: boolean }>();
const { draft } = useEditing<ProviderConfig>();
const path = computed(() => ({ path: { slug: props.slug } }));
const {
  data,
  error: loadError,
  again,
} = useLoad(
  async () => (props.kept ? ok(http.GET("/providers/{slug}/pushes", { params: path.value })) : null),
  [() => props.slug, () => props.kept],
);
const fresh = ref("");
const { error, busy, act } = useAct();
const make = () =>
  act(async () => {
    fresh.value =
      (await ok(http.POST("/providers/{slug}/pushes/tokens", { params: path.value, body: { days: 365 } }))).secret ??
      "";
    await again();
  });
const drop = async (id: string) =>
  (await sure("Take this token back? What pushes with it is refused at once.", "Take it back")) &&
  act(async () => {
    await ok(http.DELETE("/providers/{slug}/pushes/tokens/{id}", { params: { path: { slug: props.slug, id } } }));
    await again();
  });
</script>

<template>
  <section class="panel push">
    <h3>Pushed people</h3>
    <p class="soft small">
      The provider can push its people and groups to the gate over SCIM 2.0, before they sign in, and say at once who
      has left. What it pushes goes through its mapping and may speak for what it may speak for.
    </p>
    <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
    <DraftField path="pushed.on" label="Take what is pushed" as="check" />
    <DraftField
      v-if="draft.pushed"
      path="pushed.subject"
      label="Attribute that holds by what the person comes at sign-in"
      usual="userName"
      placeholder="userName"
    />
    <template v-if="data">
      <p class="row"><b class="small">Base address</b> <CopyValue :value="data.address" label="the base address" /></p>
      <p>
        {{ data.people }} people were pushed, {{ data.inactive }} of them inactive, and {{ data.groups }} groups.
        <span v-if="data.problems" class="tag attention">{{ data.problems }} not worked out</span>
      </p>
      <ElTable v-if="data.tokens.length" table-layout="auto" :data="data.tokens" row-key="id">
        <ElTableColumn label="Token"
          ><template #default="{ row: t }"
            ><span class="mono">{{ t.hint }}…</span></template
          ></ElTableColumn
        >
        <ElTableColumn label="Since"
          ><template #default="{ row: t }"><TimeText :at="t.created" from /></template
        ></ElTableColumn>
        <ElTableColumn label="Ends"
          ><template #default="{ row: t }"
            ><TimeText v-if="t.expires" :at="t.expires" from /><template v-else>no end</template></template
          ></ElTableColumn
        >
        <ElTableColumn label="Last used"
          ><template #default="{ row: t }"
            ><TimeText v-if="t.lastUsed" :at="t.lastUsed" from /><template v-else>never</template></template
          ></ElTableColumn
        >
        <ElTableColumn v-if="!readonly">
          <template #header><span class="visually-hidden">Acts</span></template>
          <template #default="{ row: t }"
            ><ElButton size="small" type="danger" @click="drop(t.id)">Take back</ElButton></template
          >
        </ElTableColumn>
      </ElTable>
      <p v-if="fresh" class="row">
        <b class="small">The token, shown this once</b> <CopyValue :value="fresh" label="the token" />
      </p>
      <ElButton v-if="!readonly && data.tokens.length < 2" :loading="busy" @click="make">Make a token</ElButton>
      <template v-if="data.remarks.length">
        <h4>Habits of the sender, taken without harm</h4>
        <ul>
          <li v-for="r in data.remarks" :key="r.text">
            {{ r.text }} <span class="soft small">Last <TimeText :at="r.last" from /></span>
          </li>
        </ul>
      </template>
    </template>
  </section>
</template>

<style scoped>
.push {
  margin-top: 18px;
}
</style>
