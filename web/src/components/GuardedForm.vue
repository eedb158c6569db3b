<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import {
  applicationConfig,
  http,
  ok,
  type Application,
  type ApplicationConfig,
  type PathRule,
  type TriedPath,
} from "../api/client";
import { list } from "../composables/circle";
import { useDraft } from "../composables/draft";
import { fieldsOf } from "../composables/fields";
import { useAct } from "../composables/load";
import CheckBox from "./CheckBox.vue";
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

const props = defineProps<{
  application: Application;
  part: "values" | "options";
  readonly?: boolean;
  save: (change: (held: ApplicationConfig) => ApplicationConfig) => Promise<void>;
}>();
const { draft, merged } = useDraft(() => applicationConfig(props.application));
const guarded = computed(() => draft.value.guarded!);
const f = fieldsOf(() => draft.value.guarded!);
const { error, offers, busy, act } = useAct();
const publicUrl = f.text("publicUrl"),
  upstreams = f.lines("upstreams"),
  pass = f.text("pass"),
  tokenHeader = f.text("tokenHeader"),
  signOutPath = f.text("signOutPath"),
  healthPath = f.text("healthPath"),
  keepHost = f.flag("keepHost"),
  timeout = f.number("timeoutSeconds");
const paths = computed(() => guarded.value.paths ?? []);
const add = () => (guarded.value.paths = [...paths.value, { path: "/", then: "signed-in" } as PathRule]);
const move = (i: number, by: number) => {
  const all = [...paths.value];
  const [one] = all.splice(i, 1);
  all.splice(i + by, 0, one!);
  guarded.value.paths = all;
};
const password = ref("");
const kept = ref(false);
const { error: keepError, act: actKeep } = useAct();
const keep = () =>
  actKeep(async () => {
    await ok(
      http.PUT("/applications/{slug}/guard/password", {
        params: { path: { slug: props.application.slug } },
        body: { password: password.value },
      }),
    );
    password.value = "";
    kept.value = true;
  });
const store = () => act(() => props.save(merged));
const tried = ref<TriedPath | null>(null);
const path = ref("/");
const { error: tryError, act: actTry } = useAct();
const tryPath = () =>
  actTry(async () => {
    tried.value = await ok(
      http.POST("/applications/{slug}/guard/try", {
        params: { path: { slug: props.application.slug } },
        body: { path: path.value },
      }),
    );
  });
</script>

<template>
  <form @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <template v-if="draft.guarded">
        <TextBox
          v-model="publicUrl"
          label="Public address"
          hint="Where people open it: https and a host name that leads to the gate's guard."
          mono
          :disabled="readonly"
        />
        <TextBox
          v-model="upstreams"
          label="Inner addresses"
          hint="Where the application listens, reachable for the gate alone. One a line."
          mono
          :rows="2"
          :disabled="readonly"
        />
        <SelectBox
          v-model="pass"
          label="Identity is passed on"
          hint="What is passed on is set by the mapping out."
          :disabled="readonly"
          :options="[
            ['headers', 'in headers'],
            ['jwt', 'as a signed token in a header'],
            ['basic', 'as basic credentials'],
            ['none', 'not at all'],
          ]"
        />
        <div v-if="pass === 'basic' && application.guarded?.pass === 'basic' && !readonly">
          <TextBox
            v-model="password"
            label="The application's password"
            hint="It is stored sealed and never shown again. The user name is what the mapping out sets as username."
            type="password"
            autocomplete="new-password"
          /><ElButton :disabled="!password" @click="keep">Store the password</ElButton
          ><span v-if="kept" class="soft" aria-live="polite"> It is stored.</span>
          <p v-if="keepError" class="error" role="alert">{{ keepError }}</p>
        </div>
        <TextBox
          v-if="pass === 'jwt'"
          v-model="tokenHeader"
          label="Header of the token"
          hint="usually X-Gate-Identity"
          mono
          :disabled="readonly"
        />
      </template>
      <TextBox
        v-model="draft.startUrl"
        :label="draft.guarded ? 'Start address' : 'Address that the link leads to'"
        mono
        :disabled="readonly"
      />
    </template>
    <template v-else-if="draft.guarded">
      <h3>Paths</h3>
      <p class="soft">
        Asked in their order; the first that fits decides. What none fits is for people who are signed in.
      </p>
      <div v-for="(r, i) in paths" :key="i" class="line">
        <input v-model="r.path" class="mono" :aria-label="`Path ${i + 1}`" :disabled="readonly" /><input
          :value="(r.methods ?? []).join(' ')"
          class="mono"
          :aria-label="`Methods of path ${i + 1}`"
          placeholder="all methods"
          :disabled="readonly"
          @change="r.methods = ($event.target as HTMLInputElement).value.split(/[\s,]+/).filter(Boolean)"
        />
        <select v-model="r.then" :aria-label="`What path ${i + 1} needs`" :disabled="readonly">
          <option value="open">open to everybody</option>
          <option value="signed-in">signed in</option>
          <option value="groups">in one of the groups</option>
          <option value="rules">let in by a rule set</option>
          <option value="refuse">refuse</option>
        </select>
        <input
          v-if="r.then === 'rules'"
          v-model="r.use"
          class="mono"
          :aria-label="`Rule set of path ${i + 1}`"
          placeholder="its short name"
          :disabled="readonly"
        />
        <input
          v-if="r.then === 'groups'"
          :value="(r.groups ?? []).join(', ')"
          class="mono"
          :aria-label="`Groups of path ${i + 1}`"
          :disabled="readonly"
          @change="r.groups = list(($event.target as HTMLInputElement).value)"
        />
        <span v-if="!readonly" class="order"
          ><button type="button" :disabled="i === 0" :aria-label="`Move path ${i + 1} up`" @click="move(i, -1)">
            ↑</button
          ><button
            type="button"
            :aria-label="`Take path ${i + 1} away`"
            @click="guarded.paths = paths.filter((_, n) => n !== i)"
          >
            ✕
          </button></span
        >
      </div>
      <p v-if="!readonly"><ElButton @click="add">Add a path</ElButton></p>
      <TextBox v-model="signOutPath" label="Path that signs out" mono :disabled="readonly" />
      <TextBox
        v-model="healthPath"
        label="Path that tells how it is"
        hint="Asked of each inner address every ten seconds while it is in use."
        mono
        :disabled="readonly"
      />
      <CheckBox
        v-model="keepHost"
        label="Hand the public host name on"
        hint="Otherwise the application sees its inner one."
        :disabled="readonly"
      />
      <TextBox v-model="timeout" label="Seconds until it must begin to answer" hint="usually 60" :disabled="readonly" />
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
    <div v-if="part === 'options' && draft.guarded && !readonly" class="try">
      <TextBox v-model="path" label="Try a path" hint="As it is saved." mono /><ElButton @click="tryPath">Ask</ElButton>
      <p v-if="tried" aria-live="polite">
        {{ tried.words }} <span v-if="tried.rule" class="soft">By the rule {{ tried.rule }}.</span>
      </p>
      <p v-if="tryError" class="error" role="alert">{{ tryError }}</p>
    </div>
  </form>
</template>

<style scoped>
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  margin-bottom: 8px;
}
.line input,
.line select {
  font: inherit;
  padding: 5px 8px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
  flex: 1 1 8rem;
  min-width: 0;
}
.line .mono {
  font-family: var(--mono);
  font-size: 13.5px;
}
.order button {
  background: none;
  border: 1px solid var(--rule);
  border-radius: 4px;
  color: var(--ink);
  min-width: 28px;
  min-height: 28px;
  cursor: pointer;
}
.try {
  margin-top: 16px;
  border-top: 1px solid var(--rule);
  padding-top: 12px;
}
</style>
