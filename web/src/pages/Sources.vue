<script setup lang="ts">
import FilePick from "../components/FilePick.vue";
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { http, ok } from "../api/client";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";
import { upload } from "../composables/upload";

const session = useSession();
const router = useRouter();
const { data, error } = useLoad(() => ok(http.GET("/sources")));
const kinds: Record<string, string> = { aggregate: "an aggregate", query: "a query service", file: "a file" };
const kind = ref("aggregate");
const name = ref("");
const url = ref("");
const certificate = ref("");
const file = ref<File | null>(null);
const sent = ref(0);
const { error: failed, busy, act } = useAct();
let stopped = false;

const add = () =>
  act(async () => {
    stopped = false;
    const made = await ok(
      http.POST("/sources", {
        body: {
          slug: "",
          name: name.value,
          kind: kind.value,
          url: kind.value === "file" ? undefined : url.value.trim(),
          certificate: certificate.value.trim() || undefined,
        },
      }),
    );
    if (kind.value === "file" && file.value) {
      const whole = await upload(made.slug, file.value, (n) => ((sent.value = n), !stopped));
      if (!whole) {
        await ok(http.DELETE("/sources/{slug}", { params: { path: { slug: made.slug } } }));
        sent.value = 0;
        return;
      }
    }
    if (kind.value !== "query")
      await ok(http.POST("/sources/{slug}/refresh", { params: { path: { slug: made.slug } } }));
    await router.push(`/sources/${made.slug}`);
  });
</script>

<template>
  <h1>Sources</h1>
  <p class="sub">
    Metadata of many partners in one place: a federation's aggregate, a service that is asked for one at a time, or a
    file. Partners are picked from it, and kept up to date with it.
  </p>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <ElTable v-if="data?.items.length" table-layout="auto" :data="data.items" row-key="slug">
    <ElTableColumn label="Name">
      <template #default="{ row: s }">
        <RouterLink :to="`/sources/${s.slug}`"
          ><b>{{ s.name }}</b></RouterLink
        ><br /><span class="mono small soft">{{ s.url }}</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="What">
      <template #default="{ row: s }">{{ kinds[s.kind] }}</template>
    </ElTableColumn>
    <ElTableColumn label="Entities">
      <template #default="{ row: s }">{{ s.entities.toLocaleString() }}</template>
    </ElTableColumn>
    <ElTableColumn label="Read">
      <template #default="{ row: s }">
        <TimeText :at="s.checked" from />
      </template>
    </ElTableColumn>
    <ElTableColumn label="Valid until">
      <template #default="{ row: s }">
        <TimeText v-if="s.validUntil" :at="s.validUntil" from /><span v-else class="soft">no end</span>
      </template>
    </ElTableColumn>
    <ElTableColumn label="State">
      <template #default="{ row: s }">
        <span v-if="s.job" class="tag">being read</span
        ><span v-else class="tag" :class="s.error ? 'broken' : 'sound'">{{ s.error ? "failing" : "sound" }}</span>
      </template>
    </ElTableColumn>
  </ElTable>
  <p v-else-if="data" class="panel empty">There is no source yet.</p>
  <ElForm v-if="session.engineer" label-position="top" class="panel add" @submit.prevent="add">
    <h2>Add a source</h2>
    <ElFormItem label="What it is">
      <ElSelect v-model="kind">
        <ElOption
          v-for="[value, text] in [
            ['aggregate', 'An aggregate: one document of many entities, at an address'],
            ['query', 'A metadata query service: asked for one entity at a time'],
            ['file', 'A file of many entities'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
    <ElFormItem label="Name">
      <ElInput v-model="name" autocomplete="off" />
    </ElFormItem>
    <ElFormItem v-if="kind !== 'file'" label="Address">
      <ElInput v-model="url" class="mono" spellcheck="false" autocomplete="off" />
      <small v-if="kind === 'query' ? 'The address to which entities/… is added.' : undefined">{{
        kind === "query" ? "The address to which entities/… is added." : undefined
      }}</small>
    </ElFormItem>
    <FilePick
      v-else
      label="Drop the file here, or choose it"
      hint="Up to 256 MB; it is sent in parts, and can be cancelled."
      accept=".xml,application/xml"
      @files="file = $event[0] ?? null"
    />
    <p v-if="kind === 'file' && file" class="mono small">{{ file.name }}</p>
    <ElFormItem label="Certificate of whoever signs it">
      <ElInput v-model="certificate" type="textarea" :rows="4" class="mono" spellcheck="false" autocomplete="off" />
      <small>{{
        kind === "file"
          ? "PEM; may be left out for a file that you trust."
          : "PEM. Without it anybody on the way could add partners."
      }}</small>
    </ElFormItem>
    <div class="row">
      <ElButton
        type="primary"
        native-type="submit"
        :loading="busy"
        :disabled="!name.trim() || (kind === 'file' && !file)"
        >Add and read it</ElButton
      >
      <template v-if="busy && file && kind === 'file'"
        ><ElProgress :percentage="Math.round((100 * sent) / file.size)" aria-label="Sent so far" />
        <span class="soft">{{ Math.round(sent / 1e6) }} of {{ Math.round(file.size / 1e6) }} MB</span>
        <ElButton @click="stopped = true">Cancel</ElButton>
      </template>
    </div>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
  </ElForm>
</template>

<style scoped>
.add {
  margin-top: 24px;
  max-width: 760px;
}
progress {
  width: 200px;
  accent-color: var(--sea);
}
</style>
