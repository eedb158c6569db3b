<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { http, ok, type TakeIn, type Understood } from "../api/client";
import TakeTheirs from "../components/TakeTheirs.vue";
import { useAct } from "../composables/load";

const router = useRouter();
const name = ref("");
const kind = ref("saml");
const kinds: [string, string][] = [
  ["saml", "SAML 2.0"],
  ["oidc", "OpenID Connect"],
  ["oauth2", "OAuth 2.0 without ID tokens"],
  ["directory", "nothing: the gate's own people"],
];
const { error, busy, act } = useAct();
type Input = TakeIn;
const understand = (body: Input) =>
  ok(http.POST("/understand/{kind}", { params: { path: { kind: "provider" } }, body }));

async function take(body: Input, u: Understood) {
  const made = await ok(http.POST("/providers", { body: { ...u.provider!, name: name.value || u.provider!.name } }));
  await ok(http.POST("/providers/{slug}/take", { params: { path: { slug: made.slug } }, body }));
  await router.push(`/providers/${made.slug}`);
}

async function byName() {
  await act(async () => {
    const made = await ok(
      http.POST("/providers", { body: { slug: "", name: name.value, kind: kind.value, reach: "draft" } }),
    );
    await router.push(`/providers/${made.slug}`);
  });
}
</script>

<template>
  <h1>Connect a provider</h1>
  <p class="sub">
    It becomes a draft, which harms nobody; our values for the other side are final from the first moment. Or start from
    a <RouterLink to="/templates">template</RouterLink>, or pick from a <RouterLink to="/sources">source</RouterLink>.
  </p>
  <div class="two">
    <section class="panel">
      <h2>You have its metadata, issuer or discovery document</h2>
      <TakeTheirs :understand="understand" :take="take" verb="Make the draft from it" />
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
