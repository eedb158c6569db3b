<script setup lang="ts">
import { computed } from "vue";
import { http, ok } from "../api/client";
import { useEdits, type Edits } from "../composables/edits";
import { useLoad } from "../composables/load";
import { useSession } from "../composables/session";
import DraftField from "./DraftField.vue";
import FilePick from "./FilePick.vue";
import SaveBar from "./SaveBar.vue";

// How the pages for people look, and what they say of who runs the gate.
type Pages = { name?: string; mark?: string; accent?: string; help?: string; language?: string };
const session = useSession();
const { data, error, again } = useLoad(() => ok(http.GET("/pages")));
const edits = useEdits<Pages>({
  held: () => ({ ...(data.value ?? {}) }),
  again,
  readonly: () => !session.owner,
  save: async (body) => {
    data.value = await ok(http.PUT("/pages", { body }));
  },
});
const { draft, readonly, problemAt } = edits;
const accent = computed({
  get: () => draft.value.accent ?? null,
  set: (v: string | null) => (draft.value.accent = v ?? undefined),
});
async function mark([f]: File[]) {
  if (!f) return;
  draft.value.mark = await new Promise((done) => {
    const r = new FileReader();
    r.onload = () => done(String(r.result));
    r.readAsDataURL(f);
  });
}
</script>

<template>
  <section class="panel pages-form">
    <h2>Pages for people</h2>
    <p class="soft small">
      Where people choose a provider, sign in here, are told what went wrong, and see their tiles.
    </p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <template v-if="data">
      <div class="two">
        <div>
          <DraftField path="name" label="The operator's name" plain placeholder="Inner Gate" />
          <DraftField
            path="help"
            label="Where people find help"
            plain
            hint="A mail address, a number, or an address of a page. It stands at the foot of each page."
          />
          <DraftField
            path="language"
            label="Language"
            placeholder="as each browser asks"
            hint="One for everybody, such as de. Others are added by files: innergate pages texts."
          />
        </div>
        <div>
          <ElFormItem label="Accent colour" label-position="top" :error="problemAt('accent') || undefined">
            <ElColorPicker v-model="accent" :disabled="readonly" aria-label="Accent colour" />
            <small>Of buttons and links. On dark pages it is lightened until it can be read.</small>
          </ElFormItem>
          <p v-if="draft.mark" class="row">
            <img :src="draft.mark" alt="The operator's sign" height="40" />
            <a v-if="!readonly" href="#" @click.prevent="draft.mark = undefined">Take it away</a>
          </p>
          <FilePick
            v-else-if="!readonly"
            label="The operator's sign"
            hint="PNG, JPEG, GIF or WebP of at most 32 KiB"
            accept="image/png,image/jpeg,image/gif,image/webp"
            @files="mark"
          />
          <p v-if="problemAt('mark')" class="error" role="alert">{{ problemAt("mark") }}</p>
        </div>
      </div>
      <SaveBar :edits="edits as unknown as Edits<object>" />
    </template>
  </section>
</template>

<style scoped>
.pages-form {
  margin-top: 20px;
}
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(18rem, 1fr));
  gap: 0 28px;
}
</style>
