<script setup lang="ts">
import FilePick from "../components/FilePick.vue";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { http, ok } from "../api/client";
import EstateNav from "../components/EstateNav.vue";
import ObjectPick from "../components/ObjectPick.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const router = useRouter();
const { data, error } = useLoad(async () => (session.engineer ? ok(http.GET("/batches")) : null));
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
async function take(list: File[]) {
  for (const f of list) {
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
  <ElForm v-if="session.engineer" label-position="top" class="panel add" @submit.prevent="begin">
    <div class="pair">
      <ElFormItem label="They become">
        <ElSelect v-model="side">
          <ElOption
            v-for="[value, text] in [
              ['application', 'applications'],
              ['provider', 'providers'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="They come from">
        <ElSelect v-model="how">
          <ElOption
            v-for="[value, text] in [
              ['files', 'metadata files'],
              ['list', 'a list in CSV'],
              ['source', 'a source'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
    </div>
    <template v-if="how === 'files'">
      <FilePick label="Drop metadata files here, or choose them" many @files="take" />
      <p v-if="files.length" class="small">
        {{ files.length }} files:
        {{
          files
            .slice(0, 8)
            .map((f) => f.name)
            .join(", ")
        }}<template v-if="files.length > 8"> …</template>
        <ElButton link type="primary" @click="files = []">take away</ElButton>
      </p></template
    >
    <ElFormItem v-else-if="how === 'list'" label="List">
      <ElInput v-model="listText" type="textarea" :rows="8" class="mono" spellcheck="false" autocomplete="off" />
      <small
        >With a line of columns at its head: url, name, short_name, description, contact, start_url, entity_id,
        providers. Only url is needed.</small
      >
    </ElFormItem>
    <div v-else class="pair">
      <ElFormItem label="Source">
        <ElSelect v-model="source">
          <ElOption
            v-for="[value, text] in [
              ['', 'choose'],
              ...(sources?.items ?? []).map((s): [string, string] => [s.slug, s.name]),
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="Only those whose name or entity ID holds">
        <ElInput v-model="search" autocomplete="off" />
      </ElFormItem>
    </div>
    <div v-if="side === 'application'" class="pair">
      <ElFormItem label="People sign in with">
        <ObjectPick v-model="provider" of="providers" none="asked in the table" />
        <small>Where a row says nothing else.</small>
      </ElFormItem>
      <ElFormItem label="Who may use them">
        <ElSelect v-model="access">
          <ElOption
            v-for="[value, text] in [
              ['', 'who is assigned'],
              ['everybody', 'everybody'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
    </div>
    <ElFormItem label="Who looks after them">
      <ElInput v-model="contact" autocomplete="off" />
      <small>Where the metadata says nothing.</small>
    </ElFormItem>
    <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!ready">Look at them</ElButton>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
  </ElForm>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="data?.items.length"
    ><h2 class="later">Begun before</h2>
    <ElTable table-layout="auto" :data="data.items" row-key="id">
      <ElTableColumn label="From">
        <template #default="{ row: b }">
          <RouterLink :to="`/batches/${b.id}`">{{ b.from }}</RouterLink>
        </template>
      </ElTableColumn>
      <ElTableColumn label="They become">
        <template #default="{ row: b }">{{ b.side }}s</template>
      </ElTableColumn>
      <ElTableColumn label="Made">
        <template #default="{ row: b }">{{ b.made }} of {{ b.rows }}</template>
      </ElTableColumn>
      <ElTableColumn label="By">
        <template #default="{ row: b }">{{ b.by }}</template>
      </ElTableColumn>
      <ElTableColumn label="When">
        <template #default="{ row: b }">
          <TimeText :at="b.created" from />
        </template>
      </ElTableColumn>
    </ElTable>
  </template>
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
