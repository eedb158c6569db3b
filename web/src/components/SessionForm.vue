<script setup lang="ts">
import FilePick from "./FilePick.vue";
import { ElButton } from "element-plus";
import { computed } from "vue";
import { applicationConfig, type Application, type ApplicationConfig, type Tile } from "../api/client";
import { list } from "../composables/circle";
import { useDraft } from "../composables/draft";
import { useAct } from "../composables/load";
import FormError from "./FormError.vue";

const props = defineProps<{
  application: Application;
  readonly?: boolean;
  save: (change: (held: ApplicationConfig) => ApplicationConfig) => Promise<void>;
}>();
const { draft, merged } = useDraft(() => applicationConfig(props.application));
const { error, offers, busy, act } = useAct();
const signOut = computed({
  get: () => draft.value.signOut ?? "",
  set: (v: string) => (draft.value.signOut = v || undefined),
});
const minutes = (name: "idleMinutes" | "maxMinutes") =>
  computed({
    get: () => String(draft.value.session?.[name] || ""),
    set: (v: string) => {
      const next = { ...draft.value.session, [name]: Number(v) || undefined };
      draft.value.session = Object.values(next).some(Boolean) ? (next as typeof draft.value.session) : undefined;
    },
  });
const idle = minutes("idleMinutes"),
  max = minutes("maxMinutes");
const tiles = computed(() => draft.value.tiles ?? []);
const add = () => (draft.value.tiles = [...tiles.value, {} as Tile]);
async function picture(t: Tile, [f]: File[]) {
  if (!f) return;
  t.picture = await new Promise((done) => {
    const r = new FileReader();
    r.onload = () => done(String(r.result));
    r.readAsDataURL(f);
  });
}
const store = () => act(() => props.save(merged));
</script>

<template>
  <ElForm label-position="top" @submit.prevent="store">
    <ElFormItem label="Signing out there ends">
      <ElSelect v-model="signOut" :disabled="readonly">
        <ElOption
          v-for="[value, text] in [
            ['', 'everything: the sessions at the gate, its applications and the provider'],
            ['gate', 'the session at the gate and its applications'],
            ['application', 'its own part only'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
    <div class="two">
      <ElFormItem label="Asked anew after minutes unused">
        <ElInput v-model="idle" :disabled="readonly" type="number" autocomplete="off" />
        <small>Empty: as the gate's own limit</small>
      </ElFormItem>
      <ElFormItem label="Asked anew after minutes at most">
        <ElInput v-model="max" :disabled="readonly" type="number" autocomplete="off" />
      </ElFormItem>
    </div>
    <h3>Tiles</h3>
    <p class="soft">What people see of it on their page. Without any, one tile with its name.</p>
    <fieldset v-for="(t, i) in tiles" :key="i">
      <legend>Tile {{ i + 1 }}</legend>
      <div class="two">
        <ElFormItem label="Name">
          <ElInput v-model="t.name" :disabled="readonly" autocomplete="off" />
          <small v-if="i ? undefined : 'Empty: the application\'s'">{{
            i ? undefined : "Empty: the application's"
          }}</small>
        </ElFormItem>
        <ElFormItem label="Description">
          <ElInput v-model="t.description" :disabled="readonly" autocomplete="off" />
        </ElFormItem>
        <ElFormItem label="Leads to">
          <ElInput v-model="t.to" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
          <small>A deep link; empty for the start</small>
        </ElFormItem>
        <ElFormItem label="Only for the groups">
          <ElInput
            class="mono"
            :model-value="(t.groups ?? []).join(', ')"
            :disabled="readonly"
            @change="t.groups = list($event)"
          />
          <small>Short names, parted by commas; empty for all who may use it</small>
        </ElFormItem>
      </div>
      <ElCheckbox v-model="t.hidden" :disabled="readonly"
        ><b>Hidden</b><small>Its start link goes on working.</small></ElCheckbox
      >
      <p v-if="t.picture">
        <img :src="t.picture" alt="Its picture" width="40" height="40" />
        <a v-if="!readonly" href="#" @click.prevent="t.picture = undefined">Take the picture away</a>
      </p>
      <FilePick
        v-else-if="!readonly"
        label="Picture"
        hint="PNG, JPEG, GIF or WebP of at most 32 KiB"
        accept="image/png,image/jpeg,image/gif,image/webp"
        @files="picture(t, $event)"
      />
      <a v-if="!readonly" href="#" @click.prevent="draft.tiles = tiles.filter((_, n) => n !== i)"
        >Take this tile away</a
      >
    </fieldset>
    <div v-if="!readonly" class="row">
      <ElButton @click="add">Add a tile</ElButton>
      <ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton>
    </div>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </ElForm>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(14rem, 1fr));
  gap: 0 16px;
  align-items: end;
}
fieldset {
  border: 1px solid var(--rule);
  border-radius: 4px;
  margin: 0 0 12px;
  padding: 8px 14px 12px;
  min-width: 0;
}
legend {
  color: var(--soft);
  padding: 0 6px;
}
</style>
