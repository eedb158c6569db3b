<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok, type Import, type PeopleSettings } from "../api/client";
import CheckBox from "../components/CheckBox.vue";
import PeopleNav from "../components/PeopleNav.vue";
import SelectBox from "../components/SelectBox.vue";
import TextBox from "../components/TextBox.vue";
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
    <form class="panel" @submit.prevent="store">
      <TextBox
        v-model="types"
        label="Person types"
        hint="Parted by commas; the first is the usual one."
        mono
        :disabled="!session.engineer"
      />
      <h2>Attributes</h2>
      <p class="soft">Those that are not listed are text, kept, and seen by engineers only.</p>
      <table class="list">
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">In words</th>
            <th scope="col">Type</th>
            <th scope="col">This sign-in only</th>
            <th scope="col">Seen by the person</th>
            <th scope="col">Edited by the person</th>
            <th scope="col"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(a, i) in attributes" :key="i">
            <td><input v-model="a.name" class="mono" :aria-label="`Name of attribute ${i + 1}`" /></td>
            <td>
              <input
                v-model="a.words"
                :aria-label="`Words for attribute ${i + 1}`"
                :placeholder="data?.names.find((n) => n.claim === a.name)?.words"
              />
            </td>
            <td>
              <select v-model="a.type" :aria-label="`Type of attribute ${i + 1}`">
                <option
                  v-for="t in ['text', 'list', 'number', 'yes-no', 'date', 'mail', 'address']"
                  :key="t"
                  :value="t"
                >
                  {{ t }}
                </option>
              </select>
            </td>
            <td>
              <input v-model="a.session" type="checkbox" :aria-label="`Attribute ${i + 1} for the sign-in only`" />
            </td>
            <td><input v-model="a.visible" type="checkbox" :aria-label="`Attribute ${i + 1} seen by the person`" /></td>
            <td>
              <input v-model="a.editable" type="checkbox" :aria-label="`Attribute ${i + 1} edited by the person`" />
            </td>
            <td>
              <button
                type="button"
                class="bare"
                :aria-label="`Take attribute ${i + 1} away`"
                @click="attributes.splice(i, 1)"
              >
                ✕
              </button>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="session.engineer" class="row acts">
        <ElButton @click="attributes.push({ name: '', type: 'text' })">Add an attribute</ElButton
        ><ElButton type="primary" native-type="submit" :loading="busy">Save</ElButton>
      </p>
    </form>
    <div class="stack">
      <section v-if="session.engineer" class="panel">
        <h2>Import</h2>
        <p class="soft small">
          CSV with a heading, or JSON lines. Columns are names of attributes, and type, active, login,
          <span class="mono">groups at the gate</span>; several values in a cell are parted by |. An empty cell changes
          nothing.
        </p>
        <input
          type="file"
          accept=".csv,.jsonl,.ndjson"
          aria-label="File with people"
          @change="
            file = ($event.target as HTMLInputElement).files?.[0] ?? null;
            job = null;
          "
        />
        <SelectBox
          v-model="by"
          class="by"
          label="People are known by"
          :options="[
            ['external_id', 'external ID'],
            ['email', 'mail address'],
            ['preferred_username', 'user name'],
            ['id', 'the gate\'s ID'],
          ]"
        />
        <CheckBox v-model="skip" label="Write the good lines although others are bad" />
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
            <progress v-if="job.state === 'running'" :value="job.percent" max="100"></progress>
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
            ><ElButton v-if="job.state !== 'done'" type="danger" @click="cancel">Cancel</ElButton>
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
input:not([type]),
select {
  font: inherit;
  font-size: 14px;
  width: 100%;
  min-width: 5.5rem;
  padding: 4px 8px;
  border: 1px solid var(--rule);
  border-radius: 3px;
  background: var(--paper);
  color: var(--ink);
  min-height: 31px;
}
.mono {
  font-family: var(--mono);
}
.bare {
  background: none;
  border: 0;
  color: var(--ink);
  cursor: pointer;
}
.acts,
.by {
  margin-top: 12px;
}
ul {
  padding-left: 20px;
}
</style>
