<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { http, ok } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import SelectBox from "../components/SelectBox.vue";
import TextBox from "../components/TextBox.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const { data, error } = useLoad(async () => (session.engineer ? ok(http.GET("/batches")) : { items: [] }));
const { data: providers } = useLoad(() => ok(http.GET("/providers", { params: { query: { limit: 200 } } })));
const { data: sources } = useLoad(() => ok(http.GET("/sources")));
const side = ref("application");
const how = ref("files");
const files = ref<{ name: string; text: string }[]>([]);
const listText = ref("");
const source = ref("");
const search = ref("");
const provider = ref("");
const access = ref("");
const contact = ref("");
const { error: failed, busy, act } = useAct();
async function take(list: FileList | null | undefined) {
  for (const f of list ?? []) {
    if (f.name.endsWith(".csv")) {
      [how.value, listText.value] = ["list", await f.text()];
      continue;
    }
    files.value = [...files.value, { name: f.name, text: await f.text() }];
  }
}
const ready = computed(() =>
  how.value === "files"
    ? files.value.length > 0
    : how.value === "list"
      ? listText.value.trim() !== ""
      : source.value !== "",
);
const begin = () =>
  act(async () => {
    const common = {
      providers: provider.value && side.value === "application" ? [provider.value] : undefined,
      access: access.value || undefined,
      contact: contact.value || undefined,
    };
    const from =
      how.value === "files"
        ? { files: files.value }
        : how.value === "list"
          ? { list: listText.value }
          : { source: source.value, search: search.value || undefined };
    const made = await ok(http.POST("/batches", { body: { side: side.value, common, ...from } }));
    await router.push(`/batches/${made.id}`);
  });
</script>

<template>
  <h1>Many at once</h1>
  <p class="sub">
    A folder of metadata files, a list with addresses, or the entities of a source. Each is understood and sorted first;
    drafts are made of what is ready, all of it or nothing.
  </p>
  <EstateNav />
  <form v-if="session.engineer" class="panel add" @submit.prevent="begin">
    <div class="pair">
      <SelectBox
        v-model="side"
        label="They become"
        :options="[
          ['application', 'applications'],
          ['provider', 'providers'],
        ]"
      /><SelectBox
        v-model="how"
        label="They come from"
        :options="[
          ['files', 'metadata files'],
          ['list', 'a list in CSV'],
          ['source', 'a source'],
        ]"
      />
    </div>
    <template v-if="how === 'files'"
      ><label class="drop" @dragover.prevent @drop.prevent="take($event.dataTransfer?.files)"
        ><span>Drop metadata files here, or choose them</span
        ><input type="file" multiple @change="take(($event.target as HTMLInputElement).files)"
      /></label>
      <p v-if="files.length" class="small">
        {{ files.length }} files:
        {{
          files
            .slice(0, 8)
            .map((f) => f.name)
            .join(", ")
        }}<template v-if="files.length > 8"> …</template>
        <button class="link" type="button" @click="files = []">take away</button>
      </p></template
    >
    <TextBox
      v-else-if="how === 'list'"
      v-model="listText"
      label="List"
      hint="With a line of columns at its head: url, name, short_name, description, contact, start_url, entity_id, providers. Only url is needed."
      mono
      :rows="8"
    />
    <div v-else class="pair">
      <SelectBox
        v-model="source"
        label="Source"
        :options="[['', 'choose'], ...(sources?.items ?? []).map((s): [string, string] => [s.slug, s.name])]"
      /><TextBox v-model="search" label="Only those whose name or entity ID holds" />
    </div>
    <div v-if="side === 'application'" class="pair">
      <SelectBox
        v-model="provider"
        label="People sign in with"
        hint="Where a row says nothing else."
        :options="[
          ['', 'asked in the table'],
          ...(providers?.items ?? []).map((p): [string, string] => [p.slug, p.name]),
        ]"
      /><SelectBox
        v-model="access"
        label="Who may use them"
        :options="[
          ['', 'who is assigned'],
          ['everybody', 'everybody'],
        ]"
      />
    </div>
    <TextBox v-model="contact" label="Who looks after them" hint="Where the metadata says nothing." />
    <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!ready">Look at them</ElButton>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
  </form>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="data?.items.length"
    ><h2 class="later">Begun before</h2>
    <table class="list">
      <thead>
        <tr>
          <th scope="col">From</th>
          <th scope="col">They become</th>
          <th scope="col">Made</th>
          <th scope="col">By</th>
          <th scope="col">When</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="b in data.items" :key="b.id">
          <td>
            <RouterLink :to="`/batches/${b.id}`">{{ b.from }}</RouterLink>
          </td>
          <td>{{ b.side }}s</td>
          <td>{{ b.made }} of {{ b.rows }}</td>
          <td>{{ b.by }}</td>
          <td><TimeText :at="b.created" from /></td>
        </tr>
      </tbody></table
  ></template>
</template>

<style scoped>
.add {
  max-width: 860px;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 16px;
}
.drop {
  display: block;
  border: 1px dashed var(--el-border-color);
  border-radius: 4px;
  padding: 18px;
  text-align: center;
  margin-bottom: 12px;
  color: var(--soft);
  cursor: pointer;
}
.drop:focus-within {
  outline: 2px solid var(--brass-line);
  outline-offset: 2px;
}
.drop input {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
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
.later {
  margin-top: 28px;
}
</style>
