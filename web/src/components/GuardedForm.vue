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
import CommonValues from "./CommonValues.vue";
import FormError from "./FormError.vue";

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
  <ElForm label-position="top" @submit.prevent="store">
    <template v-if="part === 'values'">
      <CommonValues v-model="draft" :readonly />
      <template v-if="draft.guarded">
        <ElFormItem label="Public address">
          <ElInput v-model="publicUrl" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
          <small>Where people open it: https and a host name that leads to the gate's guard.</small>
        </ElFormItem>
        <ElFormItem label="Inner addresses">
          <ElInput
            v-model="upstreams"
            :disabled="readonly"
            type="textarea"
            :rows="2"
            class="mono"
            spellcheck="false"
            autocomplete="off"
          />
          <small>Where the application listens, reachable for the gate alone. One a line.</small>
        </ElFormItem>
        <ElFormItem label="Identity is passed on">
          <ElSelect v-model="pass" :disabled="readonly">
            <ElOption
              v-for="[value, text] in [
                ['headers', 'in headers'],
                ['jwt', 'as a signed token in a header'],
                ['basic', 'as basic credentials'],
                ['none', 'not at all'],
              ]"
              :key="value"
              :value="value"
              :label="text"
            />
          </ElSelect>
          <small>What is passed on is set by the mapping out.</small>
        </ElFormItem>
        <div v-if="pass === 'basic' && application.guarded?.pass === 'basic' && !readonly">
          <ElFormItem label="The application's password">
            <ElInput v-model="password" type="password" autocomplete="new-password" />
            <small
              >It is stored sealed and never shown again. The user name is what the mapping out sets as username.</small
            >
          </ElFormItem>
          <ElButton :disabled="!password" @click="keep">Store the password</ElButton>
          <span v-if="kept" class="soft" aria-live="polite"> It is stored.</span>
          <p v-if="keepError" class="error" role="alert">{{ keepError }}</p>
        </div>
        <ElFormItem v-if="pass === 'jwt'" label="Header of the token">
          <ElInput v-model="tokenHeader" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
          <small>usually X-Gate-Identity</small>
        </ElFormItem>
      </template>
      <ElFormItem :label="draft.guarded ? 'Start address' : 'Address that the link leads to'">
        <ElInput v-model="draft.startUrl" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
    </template>
    <template v-else-if="draft.guarded">
      <h3>Paths</h3>
      <p class="soft">
        Asked in their order; the first that fits decides. What none fits is for people who are signed in.
      </p>
      <div v-for="(r, i) in paths" :key="i" class="line">
        <ElInput v-model="r.path" class="mono" :aria-label="`Path ${i + 1}`" :disabled="readonly" />
        <ElInput
          :model-value="(r.methods ?? []).join(' ')"
          class="mono"
          :aria-label="`Methods of path ${i + 1}`"
          placeholder="all methods"
          :disabled="readonly"
          @change="r.methods = $event.split(/[\s,]+/).filter(Boolean)"
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
        <ElInput
          v-if="r.then === 'groups'"
          :model-value="(r.groups ?? []).join(', ')"
          class="mono"
          :aria-label="`Groups of path ${i + 1}`"
          :disabled="readonly"
          @change="r.groups = list($event)"
        />
        <span v-if="!readonly" class="order">
          <ElButton text size="small" :disabled="i === 0" :aria-label="`Move path ${i + 1} up`" @click="move(i, -1)"
            >↑</ElButton
          >
          <ElButton
            text
            size="small"
            :aria-label="`Take path ${i + 1} away`"
            @click="guarded.paths = paths.filter((_, n) => n !== i)"
            >✕</ElButton
          >
        </span>
      </div>
      <p v-if="!readonly">
        <ElButton @click="add">Add a path</ElButton>
      </p>
      <ElFormItem label="Path that signs out">
        <ElInput v-model="signOutPath" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Path that tells how it is">
        <ElInput v-model="healthPath" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Asked of each inner address every ten seconds while it is in use.</small>
      </ElFormItem>
      <ElCheckbox v-model="keepHost" :disabled="readonly"
        ><b>Hand the public host name on</b><small>Otherwise the application sees its inner one.</small></ElCheckbox
      >
      <ElFormItem label="Seconds until it must begin to answer">
        <ElInput v-model="timeout" :disabled="readonly" autocomplete="off" />
        <small>usually 60</small>
      </ElFormItem>
    </template>
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <FormError :error="error" :offers="offers" :draft="draft" />
    <div v-if="part === 'options' && draft.guarded && !readonly" class="try">
      <ElFormItem label="Try a path">
        <ElInput v-model="path" class="mono" spellcheck="false" autocomplete="off" />
        <small>As it is saved.</small>
      </ElFormItem>
      <ElButton @click="tryPath">Ask</ElButton>
      <p v-if="tried" aria-live="polite">
        {{ tried.words }} <span v-if="tried.rule" class="soft">By the rule {{ tried.rule }}.</span>
      </p>
      <p v-if="tryError" class="error" role="alert">{{ tryError }}</p>
    </div>
  </ElForm>
</template>

<style scoped>
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  margin-bottom: 8px;
}
.line .mono {
  font-family: var(--mono);
  font-size: 13.5px;
}
.try {
  margin-top: 16px;
  border-top: 1px solid var(--rule);
  padding-top: 12px;
}
</style>
