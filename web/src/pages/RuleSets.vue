<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type RuleSet } from "../api/client";
import PeopleNav from "../components/PeopleNav.vue";
import RuleSetPanel from "../components/RuleSetPanel.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const { data, error: loadError, again } = useLoad(() => ok(http.GET("/rule-sets")));
const chosen = ref("");
const set = computed(() => data.value?.items.find((s) => s.slug === chosen.value));
const one = ref({ name: "", kind: "mapping", description: "" });
const { error, busy, act } = useAct();
const add = () =>
  act(async () => {
    const made = await ok(http.POST("/rule-sets", { body: { ...one.value, slug: "" } }));
    one.value = { name: "", kind: "mapping", description: "" };
    await again();
    chosen.value = made.slug;
  });
const remove = async (s: RuleSet) =>
  (await sure(`Delete the rule set ${s.name}?`, "Delete it")) &&
  act(async () => {
    await ok(http.DELETE("/rule-sets/{slug}", { params: { path: { slug: s.slug } } }));
    chosen.value = "";
    await again();
  });
</script>

<template>
  <h1>Rule sets</h1>
  <p class="sub">
    Mappings and access rules with a name of their own, used by many. A change acts on all of them at once, and says so
    before.
  </p>
  <PeopleNav />
  <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
  <div class="cols">
    <div class="stack">
      <ElTable v-if="data?.items.length" table-layout="auto" :data="data.items" row-key="slug">
        <ElTableColumn label="Name">
          <template #default="{ row: s }">
            <a href="#" @click.prevent="chosen = chosen === s.slug ? '' : s.slug"
              ><b>{{ s.name }}</b></a
            >
            <span class="mono soft">{{ s.slug }}</span><br /><span class="soft small">{{ s.description }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="For">
          <template #default="{ row: s }">{{ s.kind }}</template>
        </ElTableColumn>
        <ElTableColumn label="Rules">
          <template #default="{ row: s }">{{ (s.mapping?.length ?? 0) + (s.rules?.length ?? 0) }}</template>
        </ElTableColumn>
        <ElTableColumn label="Used by">
          <template #default="{ row: s }">
            <template v-for="(u, i) in s.usedBy.slice(0, 5)" :key="u.kind + u.slug"
              >{{ i ? ", " : "" }}<RouterLink :to="`/${u.kind}s/${u.slug}`">{{ u.name }}</RouterLink></template
            ><template v-if="s.usedBy.length > 5"> and {{ s.usedBy.length - 5 }} more</template
            ><span v-if="!s.usedBy.length" class="soft">nobody</span>
          </template>
        </ElTableColumn>
        <ElTableColumn>
          <template #header>
            <span class="visually-hidden">Acts</span>
          </template>
          <template #default="{ row: s }">
            <ElButton v-if="session.engineer" size="small" type="danger" @click="remove(s as RuleSet)">Delete</ElButton>
          </template>
        </ElTableColumn>
      </ElTable>
      <p v-else-if="data" class="panel empty">
        There is no rule set. What several mappings or access lists have in common can stand here once.
      </p>
      <RuleSetPanel v-if="set" :key="set.slug" :set="set" :again="again" />
    </div>
    <ElForm v-if="session.engineer" label-position="top" class="panel" @submit.prevent="add">
      <h2>Add a rule set</h2>
      <ElFormItem label="Name">
        <ElInput v-model="one.name" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="For">
        <ElSelect v-model="one.kind">
          <ElOption
            v-for="[value, text] in [
              ['mapping', 'mapping'],
              ['access', 'access'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="What it is for">
        <ElInput v-model="one.description" autocomplete="off" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!one.name.trim()">Add</ElButton>
    </ElForm>
  </div>
</template>
