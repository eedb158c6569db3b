<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Secret } from "../api/client";
import { useAct } from "../composables/load";
import { sure } from "../composables/sure";
import FilePick from "./FilePick.vue";
import TimeText from "./TimeText.vue";

/** The keytabs of a realm: what opens its tickets, without the keys. */
const props = defineProps<{ slug: string; secrets: Secret[]; readonly?: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const path = computed(() => ({ path: { slug: props.slug } }));
const file = ref<File | null>(null);
const { error, busy, act } = useAct();
const done = (f: () => Promise<unknown>) =>
  act(async () => {
    await f();
    emit("changed");
  });
const rows = computed(() =>
  props.secrets.flatMap((s) =>
    (s.keytab ?? []).map((k, i) => ({ ...k, state: s.state, since: s.created, key: `${s.id} ${i}` })),
  ),
);
const unread = computed(() => props.secrets.filter((s) => !s.keytab?.length));
async function base64(from: File) {
  const octets = new Uint8Array(await from.arrayBuffer());
  return btoa(Array.from(octets, (o) => String.fromCharCode(o)).join(""));
}
const enter = () =>
  done(async () => {
    await ok(
      http.POST("/providers/{slug}/secrets", { params: path.value, body: { value: await base64(file.value!) } }),
    );
    file.value = null;
  });
const change = () => done(() => ok(http.POST("/providers/{slug}/secrets/switch", { params: path.value })));
const forget = async (id: string) =>
  (await sure("Forget this keytab? Tickets for its keys are no longer taken.", "Forget it")) &&
  done(() => ok(http.DELETE("/providers/{slug}/secrets/{id}", { params: { path: { slug: props.slug, id } } })));
</script>

<template>
  <section class="panel keytabs">
    <h3>Keytab: the keys that open its tickets</h3>
    <ElTable v-if="rows.length" :data="rows" row-key="key" size="small" table-layout="auto">
      <ElTableColumn label="Service">
        <template #default="{ row }">
          <span class="mono">{{ row.service }}@{{ row.realm }}</span>
          <small v-if="row.unfit" class="unfit">{{ row.unfit }}</small>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Version" prop="version" />
      <ElTableColumn label="Encryption">
        <template #default="{ row }"
          ><span class="mono">{{ row.encryption }}</span></template
        >
      </ElTableColumn>
      <ElTableColumn label="Made">
        <template #default="{ row }"><TimeText :at="row.made" from /></template>
      </ElTableColumn>
      <ElTableColumn label="State">
        <template #default="{ row }">
          <span class="tag" :class="row.unfit ? 'broken' : row.state === 'next' ? 'attention' : 'sound'">{{
            row.unfit ? "opens nothing" : row.state === "next" ? "next, counts too" : "in use"
          }}</span>
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else-if="!secrets.length" class="soft">None is held yet, so no ticket can be opened.</p>
    <p v-if="unread.length" class="error">A keytab is held that opens no tickets for this gate's present names.</p>
    <div v-if="!readonly && secrets.length" class="row">
      <ElButton v-if="secrets.some((s) => s.state === 'next')" type="primary" :loading="busy" @click="change"
        >The next one alone counts from now on</ElButton
      >
      <ElButton v-for="s in secrets" :key="s.id" type="danger" @click="forget(s.id)"
        >Forget the one {{ s.state === "next" ? "that is next" : "in use" }}</ElButton
      >
    </div>
    <ElForm v-if="!readonly" label-position="top" @submit.prevent="enter">
      <ElFormItem :label="secrets.length ? 'The next keytab' : 'The keytab'">
        <div class="row">
          <FilePick label="Choose the file" small accept=".keytab" @files="(files) => (file = files[0] ?? null)" />
          <span v-if="file" class="mono">{{ file.name }}</span>
        </div>
        <small>As ktadd or ktpass wrote it. It is sealed at once; its keys are never shown.</small>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!file">{{
        secrets.length ? "Store it as the next one" : "Store it"
      }}</ElButton>
    </ElForm>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
.keytabs {
  margin-top: 18px;
}
.keytabs > .row {
  margin-top: 12px;
}
.keytabs form {
  margin-top: 14px;
  max-width: 34rem;
}
.unfit {
  display: block;
  color: var(--rust);
}
</style>
