<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import type { ApplicationConfig, Tile } from "../api/client";
import { useEditing } from "../composables/edits";
import FilePick from "./FilePick.vue";

const { draft, readonly } = useEditing<ApplicationConfig>();
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
</script>

<template>
  <h3>Tiles</h3>
  <p class="soft">What people see of it on their page. Without any, one tile with its name.</p>
  <fieldset v-for="(t, i) in tiles" :key="i">
    <legend>Tile {{ i + 1 }}</legend>
    <div class="two">
      <ElFormItem label="Name">
        <ElInput v-model="t.name" :disabled="readonly" autocomplete="off" />
        <small v-if="!i">Empty: the application's</small>
      </ElFormItem>
      <ElFormItem label="Description">
        <ElInput v-model="t.description" :disabled="readonly" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Leads to">
        <ElInput v-model="t.to" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>A deep link; empty for the start</small>
      </ElFormItem>
      <ElFormItem label="Only for the groups">
        <ElInputTag v-model="t.groups" class="mono" save-on-blur :disabled="readonly" />
        <small>Short names; empty for all who may use it</small>
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
    <a v-if="!readonly" href="#" @click.prevent="draft.tiles = tiles.filter((_, n) => n !== i)">Take this tile away</a>
  </fieldset>
  <p v-if="!readonly"><ElButton @click="add">Add a tile</ElButton></p>
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
