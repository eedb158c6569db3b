<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { http, ok, type Person } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import ObjectPick from "./ObjectPick.vue";

// What is held of a person, or the form for a new one.
const props = defineProps<{ person: Person | null }>();
const emit = defineEmits<{ made: [id: string]; saved: [person: Person] }>();
const { data: settings } = useLoad(() => ok(http.GET("/people-settings")));
const values = ref<{ name: string; text: string }[]>([]);
const type = ref("");
const active = ref(true);
const login = ref("");
const chosen = ref<string[]>([]);
const { error: saveError, busy, act } = useAct();
const wordsOf = (name: string) =>
  settings.value?.settings.attributes.find((a) => a.name === name)?.words ||
  settings.value?.names.find((n) => n.claim === name)?.words ||
  name;

function read() {
  const p = props.person;
  const profile = (p?.profile ?? {}) as Record<string, string[]>;
  const names = [
    ...(settings.value?.settings.attributes ?? []).filter((a) => !a.session).map((a) => a.name),
    ...Object.keys(profile),
  ];
  values.value = [...new Set(names)].map((name) => ({ name, text: (profile[name] ?? []).join("\n") }));
  type.value = p?.type ?? settings.value?.settings.types[0] ?? "";
  active.value = p?.active ?? true;
  login.value = p?.login ?? "";
  chosen.value = (p?.groups ?? []).filter((g) => g.by.includes("hand")).map((g) => g.slug);
}
watch([() => props.person, settings], read, { immediate: true });

const store = () =>
  act(async () => {
    const profile = Object.fromEntries(
      values.value
        .map((v) => [
          v.name.trim(),
          v.text
            .split("\n")
            .map((t) => t.trim())
            .filter(Boolean),
        ])
        .filter(([n, v]) => n && v!.length),
    ) as Record<string, string[]>;
    const body = { profile, type: type.value, active: active.value, groups: chosen.value, login: login.value.trim() };
    if (!props.person) {
      emit("made", (await ok(http.POST("/people", { body }))).id);
      return;
    }
    emit("saved", await ok(http.PUT("/people/{id}", { params: { path: { id: props.person.id } }, body })));
  });
const given = computed(() => (props.person?.groups ?? []).filter((g) => g.by.some((b) => b !== "hand")));
/** The attribute's own name, and who said its value. */
function origin(name: string) {
  const by = props.person?.sources[name];
  if (!by) return name;
  return `${name} · ${by === "hand" ? "entered here" : `from ${by}`}`;
}
</script>

<template>
  <ElForm label-position="top" class="panel" @submit.prevent="store">
    <h2>Profile</h2>
    <div class="grid">
      <div v-for="v in values" :key="v.name">
        <ElFormItem :label="wordsOf(v.name)">
          <ElInput
            v-model="v.text"
            :type="v.text.includes('\n') ? 'textarea' : 'text'"
            :rows="v.text.includes('\n') ? Math.min(6, v.text.split('\n').length) : undefined"
            spellcheck="false"
            autocomplete="off"
          />
          <small>{{ origin(v.name) }}</small>
        </ElFormItem>
      </div>
    </div>
    <p>
      <ElButton size="small" @click="values.push({ name: '', text: '' })">Add an attribute</ElButton>
    </p>
    <div v-for="(v, i) in values.filter((x) => !wordsOf(x.name))" :key="i" class="grid">
      <ElFormItem label="Name of the attribute">
        <ElInput v-model="v.name" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
    </div>
    <div class="grid">
      <ElFormItem label="Person type">
        <ElSelect v-model="type">
          <ElOption
            v-for="[value, text] in (settings?.settings.types ?? []).map((t) => [t, t] as [string, string])"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="Name in the gate's own directory">
        <ElInput v-model="login" class="mono" spellcheck="false" autocomplete="off" />
        <small>For people who sign in with a password or passkey here. Empty for none.</small>
      </ElFormItem>
    </div>
    <ElCheckbox v-model="active"
      ><b>Active</b
      ><small>Without it every sign-in and token ends at once, and nobody gets in by this record.</small></ElCheckbox
    >
    <ElFormItem label="Groups, given by hand">
      <ObjectPick v-model="chosen" of="groups" multiple placeholder="none" />
    </ElFormItem>
    <p v-if="given.length" class="soft">
      Given by providers:
      <template v-for="g in given" :key="g.slug"
        >{{ g.name }} ({{ g.by.filter((b) => b !== "hand").join(", ") }})
      </template>
    </p>
    <ElButton type="primary" native-type="submit" :loading="busy">{{ !person ? "Add" : "Save" }}</ElButton>
    <p v-if="saveError" class="error" role="alert">{{ saveError }}</p>
  </ElForm>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(240px, 1fr));
  gap: 0 16px;
}
</style>
