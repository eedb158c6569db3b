<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { http, ok, type Template } from "../api/client";
import ObjectPick from "../components/ObjectPick.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const { data, error, again } = useLoad(() => ok(http.GET("/templates")));
const chosen = ref<Template | null>(null);
const name = ref("");
const values = ref<Record<string, string>>({});
const { error: failed, busy, act } = useAct();

function choose(t: Template) {
  chosen.value = t;
  values.value = {};
  name.value = "";
}
const ours: Record<string, string> = {
  "our.entity-id": "our entity ID",
  "our.sso": "our sign-on address",
  "our.acs": "our ACS URL",
  "our.metadata": "our metadata address",
};
const inWords = (step: string) => step.replace(/\{\{([^}]+)\}\}/g, (_, name: string) => ours[name] ?? `‹${name}›`);
const start = () =>
  act(async () => {
    const made = await ok(
      http.POST("/templates/{slug}/start", {
        params: { path: { slug: chosen.value!.slug } },
        body: { name: name.value, values: values.value },
      }),
    );
    await router.push(made.kind === "application" ? `/applications/${made.slug}/connect` : `/providers/${made.slug}`);
  });
const remove = (t: Template) =>
  act(async () => {
    if (!(await sure(`Delete the template ${t.name}? What was made from it stays.`, "Delete it"))) return;
    await ok(http.DELETE("/templates/{slug}", { params: { path: { slug: t.slug } } }));
    chosen.value = null;
    await again();
  });

const from = ref("");
const saveName = ref("");
const saveText = ref("");
const blanks = ref([{ name: "", sample: "", hint: "" }]);
const { error: saveError, busy: saving, act: saveAct } = useAct();
const save = () =>
  saveAct(async () => {
    const made = await ok(
      http.POST("/templates", {
        body: {
          name: saveName.value,
          description: saveText.value,
          from: from.value,
          blanks: blanks.value.filter((b) => b.name),
        },
      }),
    );
    await again();
    choose(made);
    saveName.value = saveText.value = from.value = "";
    blanks.value = [{ name: "", sample: "", hint: "" }];
  });
</script>

<template>
  <h1>Templates</h1>
  <p class="sub">
    Connections of a shape that comes again and again, with blanks for what is different each time, and with the steps
    for the other side.
  </p>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <div class="two">
    <div>
      <ElTable
        table-layout="auto"
        :data="data?.items ?? []"
        row-key="slug"
        :row-class-name="({ row }) => (chosen?.slug === row.slug ? 'on' : '')"
      >
        <ElTableColumn label="Template">
          <template #default="{ row: t }">
            <ElButton link type="primary" @click="choose(t as Template)">{{ t.name }}</ElButton>
            <br /><span class="soft small">{{ t.description }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="For">
          <template #default="{ row: t }">{{ t.side === "application" ? "applications" : "providers" }}</template>
        </ElTableColumn>
        <ElTableColumn label="Blanks">
          <template #default="{ row: t }">
            <span class="small">{{ (t.blanks ?? []).map((b: { name: string }) => b.name).join(", ") || "none" }}</span>
          </template>
        </ElTableColumn>
      </ElTable>
      <ElForm v-if="session.engineer" label-position="top" class="panel save" @submit.prevent="save">
        <h2>Save a connection as a template</h2>
        <p class="soft">
          Certificates, contact and metadata address are left out. A value that differs each time becomes a blank
          wherever it stands.
        </p>
        <ElFormItem label="Connection">
          <ObjectPick v-model="from" of="partners" placeholder="choose a connection" />
        </ElFormItem>
        <ElFormItem label="Name of the template">
          <ElInput v-model="saveName" autocomplete="off" />
        </ElFormItem>
        <ElFormItem label="What shape of connection it is">
          <ElInput v-model="saveText" autocomplete="off" />
        </ElFormItem>
        <div v-for="(b, i) in blanks" :key="i" class="blank">
          <ElFormItem label="Blank">
            <ElInput v-model="b.name" class="mono" spellcheck="false" autocomplete="off" />
            <small>such as number</small>
          </ElFormItem>
          <ElFormItem label="Its value in this connection">
            <ElInput v-model="b.sample" class="mono" spellcheck="false" autocomplete="off" />
            <small>such as 10042</small>
          </ElFormItem>
          <ElFormItem label="What it is">
            <ElInput v-model="b.hint" autocomplete="off" />
            <small>for whoever fills it in</small>
          </ElFormItem>
        </div>
        <div class="row">
          <ElButton @click="blanks.push({ name: '', sample: '', hint: '' })">Another blank</ElButton>
          <ElButton type="primary" native-type="submit" :loading="saving" :disabled="!from || !saveName.trim()"
            >Save the template</ElButton
          >
        </div>
        <p v-if="saveError" class="error" role="alert">{{ saveError }}</p>
      </ElForm>
    </div>
    <section class="panel" aria-live="polite">
      <template v-if="chosen">
        <h2>{{ chosen.name }}</h2>
        <p class="soft">{{ chosen.description }}</p>
        <template v-if="chosen.steps?.length"
          ><h3>Steps for the other side</h3>
          <ol>
            <li v-for="s in chosen.steps" :key="s">{{ inWords(s) }}</li>
          </ol></template
        >
        <ElForm v-if="session.engineer" label-position="top" @submit.prevent="start">
          <h3>Make a draft from it</h3>
          <ElFormItem label="Name">
            <ElInput v-model="name" autocomplete="off" />
          </ElFormItem>
          <ElFormItem v-for="b in chosen.blanks ?? []" :key="b.name" :label="b.name">
            <ElInput v-model="values[b.name]" class="mono" spellcheck="false" autocomplete="off" />
            <small v-if="`${b.hint ?? ''}${b.sample ? ` (such as ${b.sample})` : ''}`">{{
              `${b.hint ?? ""}${b.sample ? ` (such as ${b.sample})` : ""}`
            }}</small>
          </ElFormItem>
          <div class="row">
            <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!name.trim()"
              >Make the draft</ElButton
            >
            <ElButton v-if="!chosen.shipped" type="danger" @click="remove(chosen)">Delete the template</ElButton>
          </div>
          <p v-if="failed" class="error" role="alert">{{ failed }}</p>
        </ElForm>
      </template>
      <p v-else class="soft">Choose a template to see its steps and to make a draft from it.</p>
    </section>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(min(300px, 100%), 2fr);
  gap: 24px;
  align-items: start;
}
.save {
  margin-top: 24px;
}
.blank {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 12px;
}
ol {
  padding-left: 20px;
}
@media (max-width: 900px) {
  .two,
  .blank {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
