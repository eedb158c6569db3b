<script setup lang="ts">
import FilePick from "../components/FilePick.vue";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type ConfigResult } from "../api/client";
import ChangesNav from "../components/ChangesNav.vue";
import ConfigSteps from "../components/ConfigSteps.vue";
import CopyValue from "../components/CopyValue.vue";
import { useAct } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
type Text = { name: string; text: string };
const files = ref<Text[]>([]);
const pasted = ref("");
const absent = ref(false);
const remark = ref("");
const preview = ref<ConfigResult | null>(null);
const done = ref<ConfigResult | null>(null);
const { error, busy, act } = useAct();
const given = computed<Text[]>(() =>
  pasted.value.trim() ? [...files.value, { name: "pasted", text: pasted.value }] : files.value,
);

async function take(list: File[]) {
  preview.value = done.value = null;
  for (const f of list)
    files.value = [...files.value.filter((x) => x.name !== f.name), { name: f.name, text: await f.text() }];
}
const call = (look: boolean) =>
  ok(
    http.POST("/config", {
      body: { files: given.value, removeAbsent: absent.value, preview: look, remark: remark.value.trim() || undefined },
    }),
  );
const look = () =>
  act(async () => {
    done.value = null;
    preview.value = await call(true);
  });
const load = () =>
  act(async () => {
    done.value = await call(false);
    preview.value = null;
    files.value = [];
    pasted.value = "";
  });
const saved = ref("");
const out = () =>
  act(async () => {
    const got = await ok(http.GET("/config", { params: { query: { form: "file" } } }));
    const a = document.createElement("a");
    a.href = URL.createObjectURL(new Blob([got.files[0]!.text], { type: "application/yaml" }));
    a.download = saved.value = got.files[0]!.name ?? "gate.yaml";
    a.click();
    URL.revokeObjectURL(a.href);
  });
// Secrets are sealed for this gate, so that they can stand in a file.
const owner = ref("providers/");
const secret = ref("");
const sealed = ref("");
const seal = () =>
  act(async () => {
    sealed.value = (
      await ok(http.POST("/config/seal", { body: { for: owner.value.trim(), value: secret.value } }))
    ).sealed;
    secret.value = "";
  });
</script>

<template>
  <h1>Configuration as files</h1>
  <p class="sub">
    The whole configuration can be kept in a repository, reviewed, and loaded again and again with the same result.
    Nothing is changed before you have seen what would happen.
  </p>
  <ChangesNav />
  <div class="cols">
    <section class="panel">
      <h2>Load</h2>
      <FilePick
        label="Drop files here, or choose them"
        many
        accept=".yaml,.yml,application/yaml,text/yaml"
        @files="take"
      />
      <ul v-if="files.length" class="files">
        <li v-for="f in files" :key="f.name">
          <span class="mono">{{ f.name }}</span>
          <span class="soft small">{{ Math.ceil(f.text.length / 1024) }} KiB</span>
          <ElButton link type="primary" @click="files = files.filter((x) => x !== f)">take away</ElButton>
        </li>
      </ul>
      <ElFormItem label="Or paste">
        <ElInput
          v-model="pasted"
          type="textarea"
          :rows="files.length ? 3 : 8"
          class="mono"
          spellcheck="false"
          autocomplete="off"
        />
      </ElFormItem>
      <ElCheckbox v-model="absent"
        ><b>Remove what files once made and these no longer hold</b
        ><small>What was made by hand always stays.</small></ElCheckbox
      >
      <ElFormItem label="Remark">
        <ElInput v-model="remark" autocomplete="off" />
        <small>Why; it stands in the history of everything that changes.</small>
      </ElFormItem>
      <div class="row">
        <ElButton type="primary" :loading="busy" :disabled="!given.length || !session.engineer" @click="look"
          >See what would happen</ElButton
        >
        <ElButton v-if="preview?.steps.length" :loading="busy" @click="load">Load it</ElButton>
      </div>
      <p v-if="error" class="error" role="alert">{{ error }}</p>
      <div v-if="preview" class="result">
        <ConfigSteps :result="preview" />
      </div>
      <div v-if="done" class="result">
        <h3>Loaded</h3>
        <ConfigSteps :result="done" done />
        <p><RouterLink to="/history">Take it back in the history</RouterLink></p>
      </div>
    </section>
    <div class="stack">
      <section class="panel">
        <h2>Export</h2>
        <p class="soft">
          One file with everything that you may see, without secrets.
          <code>innergate config export --folder</code> writes a folder with a file for each application and provider.
        </p>
        <ElButton :loading="busy" @click="out">Download gate.yaml</ElButton>
        <p v-if="saved" role="status" class="small">{{ saved }} was saved.</p>
        <p class="small"><a href="/config.schema.json" download>JSON Schema for editors</a></p>
      </section>
      <section v-if="session.engineer" class="panel">
        <h2>Seal a secret</h2>
        <p class="soft">
          Secrets never stand in files in clear: they come from a variable, from a file, or sealed for this gate alone.
        </p>
        <ElForm label-position="top" @submit.prevent="seal">
          <ElFormItem label="What it belongs to">
            <ElInput v-model="owner" class="mono" spellcheck="false" autocomplete="off" />
            <small>providers/NAME, applications/NAME, mail or notices</small>
          </ElFormItem>
          <ElFormItem label="Secret">
            <ElInput v-model="secret" type="password" autocomplete="new-password" />
          </ElFormItem>
          <ElButton native-type="submit" :loading="busy" :disabled="!secret">Seal</ElButton>
        </ElForm>
        <template v-if="sealed"
          ><p class="small">To stand in a file under <code>secrets</code>:</p>
          <CopyValue :value="`- for: ${owner.trim()}\n  sealed: ${sealed}`" label="the sealed secret" block />
        </template>
      </section>
    </div>
  </div>
</template>

<style scoped>
.files {
  padding-left: 18px;
}
.link {
  background: none;
  border: 0;
  padding: 0;
  color: var(--sea);
  font: inherit;
  cursor: pointer;
  text-decoration: underline;
}
.result {
  margin-top: 16px;
}
</style>
