<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { applicationConfig, type Application, type ApplicationConfig, type Tile } from "../api/client";
import { list } from "../composables/circle";
import { useDraft } from "../composables/draft";
import { useAct } from "../composables/load";
import CheckBox from "./CheckBox.vue";
import FormError from "./FormError.vue";
import SelectBox from "./SelectBox.vue";
import TextBox from "./TextBox.vue";

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
async function picture(t: Tile, event: Event) {
  const f = (event.target as HTMLInputElement).files?.[0];
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
  <form @submit.prevent="store">
    <SelectBox
      v-model="signOut"
      label="Signing out there ends"
      :disabled="readonly"
      :options="[
        ['', 'everything: the sessions at the gate, its applications and the provider'],
        ['gate', 'the session at the gate and its applications'],
        ['application', 'its own part only'],
      ]"
    />
    <div class="two">
      <TextBox
        v-model="idle"
        label="Asked anew after minutes unused"
        hint="Empty: as the gate's own limit"
        type="number"
        :disabled="readonly"
      /><TextBox v-model="max" label="Asked anew after minutes at most" type="number" :disabled="readonly" />
    </div>
    <h3>Tiles</h3>
    <p class="soft">What people see of it on their page. Without any, one tile with its name.</p>
    <fieldset v-for="(t, i) in tiles" :key="i">
      <legend>Tile {{ i + 1 }}</legend>
      <div class="two">
        <TextBox
          v-model="t.name"
          label="Name"
          :hint="i ? undefined : 'Empty: the application\'s'"
          :disabled="readonly"
        /><TextBox v-model="t.description" label="Description" :disabled="readonly" /><TextBox
          v-model="t.to"
          label="Leads to"
          hint="A deep link; empty for the start"
          mono
          :disabled="readonly"
        />
        <label class="field"
          ><span>Only for the groups</span><small>Short names, parted by commas; empty for all who may use it</small
          ><input
            class="mono"
            :value="(t.groups ?? []).join(', ')"
            :disabled="readonly"
            @change="t.groups = list(($event.target as HTMLInputElement).value)"
        /></label>
      </div>
      <CheckBox v-model="t.hidden" label="Hidden" hint="Its start link goes on working." :disabled="readonly" />
      <p v-if="t.picture">
        <img :src="t.picture" alt="Its picture" width="40" height="40" />
        <a v-if="!readonly" href="#" @click.prevent="t.picture = undefined">Take the picture away</a>
      </p>
      <label v-else-if="!readonly" class="field"
        ><span>Picture</span><small>PNG, JPEG, GIF or WebP of at most 32 KiB</small
        ><input type="file" accept="image/png,image/jpeg,image/gif,image/webp" @change="picture(t, $event)"
      /></label>
      <a v-if="!readonly" href="#" @click.prevent="draft.tiles = tiles.filter((_, n) => n !== i)"
        >Take this tile away</a
      >
    </fieldset>
    <div v-if="!readonly" class="row">
      <ElButton @click="add">Add a tile</ElButton
      ><ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton>
    </div>
    <FormError :error="error" :offers="offers" :draft="draft" />
  </form>
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
.field input {
  font: inherit;
  width: 100%;
  padding: 6px 10px;
  border: 1px solid var(--el-border-color);
  border-radius: 4px;
  background: var(--card);
  color: var(--ink);
}
</style>
