<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import type { TakeIn, Understood } from "../api/client";
import { useAct } from "../composables/load";
import { shortName } from "../composables/text";
import EntityChoice from "./EntityChoice.vue";
import FilePick from "./FilePick.vue";

const props = defineProps<{
  understand: (input: TakeIn) => Promise<Understood>;
  take: (input: TakeIn, understood: Understood) => Promise<void>;
  verb?: string;
  /** It is a directory, of which an address or a certificate is taken. */
  directory?: boolean;
  realm?: boolean;
}>();
const text = ref("");
const file = ref("");
const over = ref(false);
const got = ref<Understood | null>(null);
const entity = ref("");
const { error, busy, act } = useAct();

const certificate = ref("");
const beside = ref("");
const large = ref(false);

function input(): TakeIn {
  const trimmed = text.value.trim();
  const more = { entityId: entity.value.trim() || undefined, certificate: certificate.value || undefined };
  if (/^https?:\/\/\S+$/.test(trimmed)) return { url: trimmed, ...more };
  return { text: text.value, ...more };
}

/** A file as text; what is not text, such as a certificate in DER, comes as base64. */
async function textOf(f: File): Promise<string> {
  const bytes = new Uint8Array(await f.arrayBuffer());
  if (bytes[0] === 0x30 && bytes[1] === 0x82) return btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));
  const wide =
    bytes[0] === 0xff && bytes[1] === 0xfe ? "utf-16le" : bytes[0] === 0xfe && bytes[1] === 0xff ? "utf-16be" : "utf-8";
  return new TextDecoder(wide).decode(bytes);
}

async function besideFile(files: File[]) {
  if (!files?.[0]) return;
  beside.value = files[0].name;
  certificate.value = await textOf(files[0]);
  void look();
}

async function look() {
  got.value = null;
  if (!text.value.trim()) return;
  await act(async () => {
    got.value = await props.understand(input());
  });
}

function changed() {
  entity.value = "";
  large.value = false;
  void look();
}

async function dropped(files?: File[] | FileList | null) {
  over.value = false;
  const f = files?.[0];
  if (!f) return;
  large.value = f.size > 3 << 20;
  if (large.value) {
    error.value = `${f.name} has ${Math.round(f.size / 1e6)} MB, so it holds many entities. Add it as a source, and pick from there.`;
    return;
  }
  file.value = f.name;
  text.value = await textOf(f);
  changed();
}

function choose(id: string) {
  entity.value = id;
  void look();
}

const usable = () => !!(got.value?.application || got.value?.provider);

async function store() {
  const understood = got.value!;
  if (await act(() => props.take(input(), understood))) got.value = null;
}
</script>

<template>
  <div
    class="take"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="dropped($event.dataTransfer?.files)"
  >
    <ElFormItem label="Take theirs">
      <ElInput
        v-model="text"
        spellcheck="false"
        :placeholder="
          directory
            ? 'ldaps://…   or   -----BEGIN CERTIFICATE-----'
            : realm
              ? 'SALTMERE.EXAMPLE   or   [libdefaults] default_realm = …'
              : 'https://…   or   <EntityDescriptor …>   or   { … }   or   ldaps://…'
        "
        type="textarea"
        :rows="4"
        @change="changed"
        @paste="$nextTick(changed)"
      />
      <small v-if="directory"
        >Enter the address of a server, or paste the certificate of the authority that signs the servers'. It is shown
        first; nothing is stored yet.</small
      >
      <small v-else-if="realm"
        >Enter the realm, or paste the configuration of its machines (krb5.conf). It is shown first; nothing is stored
        yet. The keytab is entered below.</small
      >
      <small v-else
        >Drop a file here, paste metadata, a discovery document or a list of values in any form, or enter an address or
        issuer. What it is will be found out; nothing is stored yet.</small
      >
    </ElFormItem>
    <div class="row">
      <FilePick
        label="Choose a file"
        small
        accept=".xml,.json,.txt,.pem,.cer,.crt,.der,application/xml,text/xml,application/json"
        @files="dropped"
      />
      <span v-if="file" class="soft">{{ file }}</span>
      <ElButton :loading="busy" @click="changed">Understand it</ElButton>
    </div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <p v-if="large"><RouterLink to="/sources">Add it as a source</RouterLink></p>
    <div v-if="got" class="got" aria-live="polite">
      <ul v-if="got.problems.length" class="problems">
        <li v-for="p in got.problems" :key="p.code + p.message">
          <b class="mono">{{ p.code }}</b> {{ p.message }}
        </li>
      </ul>
      <p v-if="got.remark">{{ got.remark }}</p>
      <ElForm v-if="got.needsEntityId" label-position="top" class="row" @submit.prevent="look">
        <ElFormItem label="Entity ID" class="id">
          <ElInput v-model="entity" class="mono" spellcheck="false" />
          <small>It was lost in the cutting. Enter it exactly as the other side writes it.</small>
        </ElFormItem>
        <ElButton native-type="submit">Go on</ElButton>
      </ElForm>
      <EntityChoice v-if="!got.chosen && got.entities.length > 1" :entities="got.entities" @choose="choose" />
      <template v-if="usable()">
        <h3>This was understood</h3>
        <ElTable table-layout="auto" :data="got.changes ?? []" empty-text="All this is held already.">
          <ElTableColumn label="Field">
            <template #default="{ row: c }"
              >{{ c.field
              }}<span v-if="c.field === 'start address' && got.proposed?.startUrl" class="tag attention">proposed</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Held now">
            <template #default="{ row: c }">
              <span class="mono">{{ shortName(c.before) || "–" }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Theirs">
            <template #default="{ row: c }">
              <span class="mono">{{ shortName(c.after) || "taken away" }}</span>
            </template>
          </ElTableColumn>
        </ElTable>
        <FilePick
          v-if="got.role === 'sp' || got.role === 'idp'"
          :label="beside || 'A certificate file came beside it'"
          small
          accept=".pem,.cer,.crt,.der,.txt"
          @files="besideFile"
        />
        <p v-if="got.proposed?.startUrl" class="soft">
          The metadata does not say where people begin in the application. This address is a guess; correct it below.
        </p>
        <ElButton type="primary" :loading="busy" @click="store">{{ verb ?? "Take it" }}</ElButton>
      </template>
    </div>
  </div>
</template>

<style scoped>
.take {
  border: 1px dashed var(--el-border-color);
  border-radius: 4px;
  padding: 16px 18px;
  background: var(--card);
}
.take.over {
  border-color: var(--sea);
  background: var(--sea-tint);
}
.got {
  margin-top: 14px;
}
.problems {
  padding-left: 18px;
}
h3 {
  margin-top: 8px;
}
.tag {
  margin-left: 8px;
}
.got .el-button {
  margin-top: 10px;
}
.id {
  flex: 1;
}
</style>
