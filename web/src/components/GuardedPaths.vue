<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type ApplicationConfig, type PathRule, type TriedPath } from "../api/client";
import { useEditing } from "../composables/edits";
import { useAct } from "../composables/load";

const props = defineProps<{ slug: string }>();
const { draft, readonly } = useEditing<ApplicationConfig>();
const guarded = computed(() => draft.value.guarded!);
const paths = computed(() => guarded.value.paths ?? []);
const add = () => (guarded.value.paths = [...paths.value, { path: "/", then: "signed-in" } as PathRule]);
const away = (i: number) => (guarded.value.paths = paths.value.filter((_, n) => n !== i));
const move = (i: number, by: number) => {
  const all = [...paths.value];
  const [one] = all.splice(i, 1);
  all.splice(i + by, 0, one!);
  guarded.value.paths = all;
};
const tried = ref<TriedPath | null>(null);
const path = ref("/");
const { error, act } = useAct();
const tryPath = () =>
  act(async () => {
    tried.value = await ok(
      http.POST("/applications/{slug}/guard/try", {
        params: { path: { slug: props.slug } },
        body: { path: path.value },
      }),
    );
  });
</script>

<template>
  <h3>Paths</h3>
  <p class="soft">Asked in their order; the first that fits decides. What none fits is for people who are signed in.</p>
  <div v-for="(r, i) in paths" :key="i" class="line">
    <ElInput v-model="r.path" class="mono" :aria-label="`Path ${i + 1}`" :disabled="readonly" />
    <ElInputTag
      v-model="r.methods"
      class="mono"
      :aria-label="`Methods of path ${i + 1}`"
      placeholder="all methods"
      save-on-blur
      :disabled="readonly"
    />
    <ElSelect v-model="r.then" :aria-label="`What path ${i + 1} needs`" :disabled="readonly">
      <ElOption value="open" label="open to everybody" />
      <ElOption value="signed-in" label="signed in" />
      <ElOption value="groups" label="in one of the groups" />
      <ElOption value="rules" label="let in by a rule set" />
      <ElOption value="refuse" label="refuse" />
    </ElSelect>
    <ElInput
      v-if="r.then === 'rules'"
      v-model="r.use"
      class="mono"
      :aria-label="`Rule set of path ${i + 1}`"
      placeholder="its short name"
      :disabled="readonly"
    />
    <ElInputTag
      v-if="r.then === 'groups'"
      v-model="r.groups"
      class="mono"
      :aria-label="`Groups of path ${i + 1}`"
      save-on-blur
      :disabled="readonly"
    />
    <span v-if="!readonly" class="order">
      <ElButton text size="small" :disabled="i === 0" :aria-label="`Move path ${i + 1} up`" @click="move(i, -1)"
        >↑</ElButton
      >
      <ElButton text size="small" :aria-label="`Take path ${i + 1} away`" @click="away(i)">✕</ElButton>
    </span>
  </div>
  <p v-if="!readonly"><ElButton @click="add">Add a path</ElButton></p>
  <div v-if="!readonly" class="try">
    <ElFormItem label="Try a path">
      <ElInput v-model="path" class="mono" spellcheck="false" autocomplete="off" />
      <small>As it is saved.</small>
    </ElFormItem>
    <ElButton @click="tryPath">Ask</ElButton>
    <p v-if="tried" aria-live="polite">
      {{ tried.words }} <span v-if="tried.rule" class="soft">By the rule {{ tried.rule }}.</span>
    </p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </div>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(10rem, 1fr));
  gap: 8px;
  margin-bottom: 8px;
}
.try {
  margin: 16px 0;
  border-left: 3px solid var(--brass-line);
  padding-left: 14px;
}
</style>
