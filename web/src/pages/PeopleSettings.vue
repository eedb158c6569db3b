<script setup lang="ts">
import FilePick from "../components/FilePick.vue";
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok, type Import, type PeopleSettings } from "../api/client";
import PeopleNav from "../components/PeopleNav.vue";
import { sendPeople, whileRunning } from "../composables/importing";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const { data, error: loadError, again } = useLoad(() => ok(http.GET("/people-settings")));
const types = ref("");
const attributes = ref<PeopleSettings["attributes"]>([]);
watch(data, (d) => {
  types.value = (d?.settings.types ?? []).join(", ");
  attributes.value = JSON.parse(JSON.stringify(d?.settings.attributes ?? []));
});
const { error, busy, act } = useAct();
const store = () =>
  act(async () => {
    await ok(
      http.PUT("/people-settings", {
        body: {
          types: types.value
            .split(",")
            .map((t) => t.trim())
            .filter(Boolean),
          attributes: attributes.value,
        },
      }),
    );
    await again();
  });
const file = ref<File | null>(null);
const by = ref("external_id");
const skip = ref(false);
const job = ref<Import | null>(null);
const { error: importError, busy: importing, act: doing } = useAct();
const show = (j: Import) => (job.value = j);
const check = () =>
  doing(async () => {
    const sent = await sendPeople(file.value!, by.value, skip.value, show);
    if (sent.state === "stopped" && sent.writing) return void show(sent);
    await ok(http.POST("/people-imports/{id}/check", { params: { path: { id: sent.id } } }));
    await whileRunning(sent.id, show);
  });
const write = () =>
  doing(async () => {
    await ok(http.POST("/people-imports/{id}/write", { params: { path: { id: job.value!.id } } }));
    await whileRunning(job.value!.id, show);
  });
const cancel = () =>
  doing(async () => {
    await ok(http.DELETE("/people-imports/{id}", { params: { path: { id: job.value!.id } } }));
    job.value = null;
  });
</script>

<template>
  <h1>Types, attributes, import</h1>
  <p class="sub">What a profile may hold, and people by the file.</p>
  <PeopleNav />
  <p v-if="error || loadError" class="error" role="alert">{{ error || loadError }}</p>
  <div class="cols">
    <ElForm label-position="top" class="panel" @submit.prevent="store">
      <ElFormItem label="Person types">
        <ElInput v-model="types" :disabled="!session.engineer" class="mono" spellcheck="false" autocomplete="off" />
        <small>Parted by commas; the first is the usual one.</small>
      </ElFormItem>
      <h2>Attributes</h2>
      <p class="soft">Those that are not listed are text, kept, and seen by engineers only.</p>
      <ElTable table-layout="auto" :data="attributes">
        <ElTableColumn label="Name">
          <template #default="{ row: a, $index: i }">
            <ElInput v-model="a.name" class="mono" :aria-label="`Name of attribute ${i + 1}`" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="In words">
          <template #default="{ row: a, $index: i }">
            <ElInput
              v-model="a.words"
              :aria-label="`Words for attribute ${i + 1}`"
              :placeholder="data?.names.find((n) => n.claim === a.name)?.words"
            />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Type">
          <template #default="{ row: a, $index: i }">
            <ElSelect v-model="a.type" :aria-label="`Type of attribute ${i + 1}`">
              <ElOption
                v-for="t in ['text', 'list', 'number', 'yes-no', 'date', 'mail', 'address']"
                :key="t"
                :value="t"
                :label="t"
              />
            </ElSelect>
          </template>
        </ElTableColumn>
        <ElTableColumn label="This sign-in only">
          <template #default="{ row: a, $index: i }">
            <ElCheckbox v-model="a.session" :aria-label="`Attribute ${i + 1} for the sign-in only`" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Seen by the person">
          <template #default="{ row: a, $index: i }">
            <ElCheckbox v-model="a.visible" :aria-label="`Attribute ${i + 1} seen by the person`" />
          </template>
        </ElTableColumn>
        <ElTableColumn label="Edited by the person">
          <template #default="{ row: a, $index: i }">
            <ElCheckbox v-model="a.editable" :aria-label="`Attribute ${i + 1} edited by the person`" />
          </template>
        </ElTableColumn>
        <ElTableColumn>
          <template #header>
            <span class="visually-hidden">Acts</span>
          </template>
          <template #default="{ $index: i }">
            <ElButton text size="small" :aria-label="`Take attribute ${i + 1} away`" @click="attributes.splice(i, 1)"
              >✕</ElButton
            >
          </template>
        </ElTableColumn>
      </ElTable>
      <p v-if="session.engineer" class="row acts">
        <ElButton @click="attributes.push({ name: '', type: 'text' })">Add an attribute</ElButton>
        <ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton>
      </p>
    </ElForm>
    <div class="stack">
      <section v-if="session.engineer" class="panel">
        <h2>Import</h2>
        <p class="soft small">
          CSV with a heading, or JSON lines. Columns are names of attributes, and type, active, login,
          <span class="mono">groups at the gate</span>; several values in a cell are parted by |. An empty cell changes
          nothing.
        </p>
        <FilePick
          label="File with people"
          accept=".csv,.jsonl,.ndjson"
          @files="
            file = $event[0] ?? null;
            job = null;
          "
        />
        <p v-if="file" class="mono small">{{ file.name }}</p>
        <ElFormItem label="People are known by" class="by">
          <ElSelect v-model="by">
            <ElOption
              v-for="[value, text] in [
                ['external_id', 'external ID'],
                ['email', 'mail address'],
                ['preferred_username', 'user name'],
                ['id', 'the gate\'s ID'],
              ]"
              :key="value"
              :value="value"
              :label="text"
            />
          </ElSelect>
        </ElFormItem>
        <ElCheckbox v-model="skip">Write the good lines although others are bad</ElCheckbox>
        <ElButton :disabled="!file" :loading="importing" @click="check">Check the file</ElButton>
        <p v-if="importError" class="error" role="alert">{{ importError }}</p>
        <div v-if="job" aria-live="polite">
          <p>
            <b>{{
              {
                open: "Sending",
                running: job.writing ? "Writing" : "Checking",
                checked: "Checked",
                stopped: "Stopped",
                done: "Done",
              }[job.state] ?? job.state
            }}</b>
            <ElProgress v-if="job.state === 'running'" :percentage="job.percent" />
          </p>
          <p>
            {{ job.lines }} lines: {{ job.created }} {{ job.writing ? "created" : "would be created" }},
            {{ job.updated }} {{ job.writing ? "changed" : "would be changed" }}, {{ job.unchanged }} stay as they are,
            {{ job.bad }} are bad.
          </p>
          <p v-if="job.note" class="soft">{{ job.note }}</p>
          <ul v-if="job.problems.length">
            <li v-for="p in job.problems.slice(0, 50)" :key="p.line">Line {{ p.line }}: {{ p.message }}</li>
          </ul>
          <p v-if="job.state === 'checked' && job.bad && !skip">Nothing is written while a line is bad.</p>
          <p class="row">
            <ElButton
              v-if="(job.state === 'checked' && (!job.bad || skip)) || (job.state === 'stopped' && job.writing)"
              type="primary"
              :loading="importing"
              @click="write"
              >{{ job.state === "stopped" ? "Go on writing" : "Write it" }}</ElButton
            >
            <ElButton v-if="job.state !== 'done'" type="danger" @click="cancel">Cancel</ElButton>
          </p>
        </div>
      </section>
      <section v-if="session.owner" class="panel">
        <h2>Export</h2>
        <p>
          <a href="/api/v1/people-export/csv" download>All people as CSV</a><br /><a
            href="/api/v1/people-export/jsonl"
            download
            >All people as JSON lines</a
          >
        </p>
      </section>
    </div>
  </div>
</template>

<style scoped>
.mono {
  font-family: var(--mono);
}
.acts,
.by {
  margin-top: 12px;
}
ul {
  padding-left: 20px;
}
</style>
