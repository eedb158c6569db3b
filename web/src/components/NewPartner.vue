<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type TakeIn, type Understood } from "../api/client";
import type { Choice } from "../composables/choices";
import { useAct } from "../composables/load";
import TakeTheirs from "./TakeTheirs.vue";

// A new application or provider, begun with whatever there is of it.
const props = defineProps<{
  side: "application" | "provider";
  /** What its other side may hand over. */
  has: string;
  kinds: Choice[];
  /** Makes the draft, with what was understood where there is something, and returns its short name. */
  make: (from: { name: string; kind: string; understood?: Understood }) => Promise<string>;
  take: (slug: string, body: TakeIn) => Promise<unknown>;
  /** Where the page of the new one is. */
  open: (slug: string) => Promise<unknown>;
}>();
const name = ref("");
const kind = ref("saml");
const { error, busy, act } = useAct();
const understand = (body: TakeIn) =>
  ok(http.POST("/understand/{kind}", { params: { path: { kind: props.side } }, body }));
async function takeIn(body: TakeIn, understood: Understood) {
  const slug = await props.make({ name: name.value, kind: kind.value, understood });
  await props.take(slug, body);
  await props.open(slug);
}
const byName = () => act(async () => void (await props.open(await props.make({ name: name.value, kind: kind.value }))));
</script>

<template>
  <h1>Connect {{ side === "application" ? "an" : "a" }} {{ side }}</h1>
  <p class="sub">
    Begin with whatever you have. It becomes a draft, which harms nobody; our values for the other side are final from
    the first moment. Or start from a <RouterLink to="/templates">template</RouterLink>, or pick from a
    <RouterLink to="/sources">source</RouterLink>.
  </p>
  <div class="two">
    <section class="panel">
      <h2>You have its {{ has }}</h2>
      <TakeTheirs :understand="understand" :take="takeIn" verb="Make the draft from it" />
    </section>
    <ElForm label-position="top" class="panel" @submit.prevent="byName">
      <h2>You have only its name</h2>
      <p class="soft">Hand over our values first, and take theirs when they come.</p>
      <ElFormItem label="Name">
        <ElInput v-model="name" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="It speaks">
        <ElSelect v-model="kind">
          <ElOption v-for="[value, text] in kinds" :key="value" :value="value" :label="text" />
        </ElSelect>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!name.trim()">Make the draft</ElButton>
      <p v-if="error" class="error" role="alert">{{ error }}</p>
    </ElForm>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(260px, 1fr);
  gap: 20px;
  align-items: start;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
