<script setup lang="ts">
import { sure } from "../composables/sure";
import FilePick from "./FilePick.vue";
import { ElButton, ElCheckbox } from "element-plus";
import { computed, ref } from "vue";
import { ApiError, http, ok, type Key } from "../api/client";
import { useAct, useLoad, useTicker } from "../composables/load";
import CopyValue from "./CopyValue.vue";
import TimeText from "./TimeText.vue";

const props = defineProps<{ purpose: string; partner?: string; owner: boolean; engineer: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const {
  data: roll,
  error,
  again,
} = useLoad(
  () => ok(http.GET("/rollover", { params: { query: { purpose: props.purpose, for: props.partner } } })),
  [() => props.purpose, () => props.partner],
);
useTicker(3000, () => void again());
const { error: failed, busy, act } = useAct();
const token = computed(() => !props.purpose.startsWith("saml-"));
const way = ref("make");
const data = ref("");
const password = ref("");
const chain = ref("");
const at = ref("");
const anyway = ref(false);
const encryption = computed(() => props.purpose === "saml-encryption");
const tokenKinds: Record<string, [string, string][]> = {
  "token-rsa": [
    ["rsa-3072", "RSA 3072"],
    ["rsa-2048", "RSA 2048"],
    ["rsa-4096", "RSA 4096"],
  ],
  "token-p256": [["p-256", "P-256"]],
  "token-ed25519": [["ed25519", "Ed25519"]],
  client: [
    ["p-256", "P-256"],
    ["rsa-3072", "RSA 3072"],
    ["ed25519", "Ed25519"],
  ],
};
const kinds = computed<[string, string][]>(
  () =>
    tokenKinds[props.purpose] ?? [
      ["rsa-2048", "RSA 2048"],
      ["rsa-3072", "RSA 3072"],
      ["rsa-4096", "RSA 4096"],
      ...(encryption.value
        ? []
        : ([
            ["p-256", "P-256"],
            ["p-384", "P-384"],
          ] as [string, string][])),
    ],
);
const kind = ref(tokenKinds[props.purpose]?.[0]?.[0] ?? "rsa-3072");
const steps = token.value
  ? [
      { id: "make", title: "Make the next key", text: "Nobody learns of it yet." },
      { id: "publish", title: "Publish both", text: "Our key set holds the next key beside the one in use." },
      {
        id: "wait",
        title: "Give them time",
        text: "Partners fetch the key set by themselves, at the latest when a token names a key that they do not hold.",
      },
      { id: "switch", title: "Switch", text: "At once, or at a time." },
      { id: "keep", title: "Keep the old one, then retire it", text: "Until the last token that it signed is over." },
    ]
  : [
      { id: "make", title: "Make the next key", text: "Nobody learns of it yet." },
      { id: "publish", title: "Publish both", text: "Our metadata holds the next certificate beside the one in use." },
      { id: "wait", title: "See who has it", text: "Fetched by themselves, or confirmed by hand." },
      { id: "switch", title: "Switch", text: "At once, or at a time." },
      { id: "keep", title: "Keep the old one, then retire it", text: "Until then everything can be taken back." },
    ];
const order = computed(
  () => ({ make: 0, publish: 1, wait: 2, scheduled: 3, keep: 4 })[roll.value?.step ?? "make"] ?? 0,
);
const all = computed(() => !!roll.value && roll.value.have === roll.value.count);

async function after() {
  await again();
  emit("changed");
}
const make = () =>
  act(async () => {
    await ok(http.POST("/keys", { body: { purpose: props.purpose, kind: kind.value, for: props.partner } }));
    await after();
  });
const bring = () =>
  act(async () => {
    await ok(
      http.POST("/keys/import", {
        body: { purpose: props.purpose, for: props.partner, data: data.value, password: password.value || undefined },
      }),
    );
    data.value = password.value = "";
    await after();
  });
const one = (k: Key) => ({ params: { path: { id: k.id } } });
const publish = () =>
  act(async () => {
    await ok(http.POST("/keys/{id}/publish", one(roll.value!.next!)));
    await after();
  });
const undo = (k: Key) =>
  act(async () => {
    await ok(http.POST("/keys/{id}/undo", one(k)));
    await after();
  });
const discard = () =>
  act(async () => {
    await ok(http.DELETE("/keys/{id}", one(roll.value!.next!)));
    await after();
  });
const switchTo = (anyway: boolean) =>
  ok(
    http.POST("/keys/{id}/switch", {
      ...one(roll.value!.next!),
      body: { at: at.value ? new Date(at.value).toISOString() : undefined, anyway: anyway || undefined },
    }),
  );
/** Switches; where the gate names partners that lack the certificate, the engineer decides. */
async function change() {
  let lacking = "";
  const switched = await act(async () => {
    try {
      await switchTo(anyway.value);
    } catch (e) {
      if (!(e instanceof ApiError) || e.problem.code !== "certificate-not-held") throw e;
      lacking = e.problem.detail ?? e.message;
    }
  });
  if (!switched) return;
  if (lacking && !(await sure(lacking, "Switch anyway"))) return;
  await act(async () => {
    if (lacking) await switchTo(true);
    at.value = "";
    await after();
  });
}
async function retire(k: Key) {
  if (!(await sure("Retire the old key? This is the one step that can't be taken back.", "Retire it"))) return;
  await act(async () => {
    await ok(http.POST("/keys/{id}/retire", one(k)));
    await after();
  });
}
const certify = () =>
  act(async () => {
    await ok(http.PUT("/keys/{id}/certificate", { ...one(roll.value!.next!), body: { text: chain.value } }));
    chain.value = "";
    await after();
  });
type Holder = { kind: string; slug: string; has: boolean };
const confirmed = (p: Holder, key: Key) =>
  act(async () => {
    const params = { params: { path: { id: key.id, side: `${p.kind}s`, slug: p.slug } } };
    await (p.has
      ? ok(http.DELETE("/keys/{id}/holders/{side}/{slug}", params))
      : ok(http.PUT("/keys/{id}/holders/{side}/{slug}", params)));
    await after();
  });
async function bundle(files: File[]) {
  if (!files?.[0]) return;
  const bytes = new Uint8Array(await files[0].arrayBuffer());
  const text = new TextDecoder().decode(bytes);
  data.value = text.includes("-----BEGIN") ? text : btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""));
}
const how: Record<string, string> = { fetched: "fetched our metadata", confirmed: "confirmed" };
</script>

<template>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="roll">
    <ol class="steps" aria-label="Steps of the replacement">
      <li
        v-for="(s, i) in steps"
        :key="s.id"
        :class="{ done: i < order, now: i === order }"
        :aria-current="i === order ? 'step' : undefined"
      >
        <b
          ><span aria-hidden="true">{{ i < order ? "✓" : i + 1 }}</span> {{ s.title }}</b
        ><span>{{ s.text }}</span>
      </li>
    </ol>
    <div v-if="!owner" class="soft">Only an owner can take these steps.</div>
    <div v-else-if="roll.step === 'make' || (roll.step === 'keep' && way === 'again')" class="act">
      <ElFormItem label="The next key">
        <ElSelect v-model="way">
          <ElOption
            v-for="[value, text] in [
              ['make', 'make it here'],
              ['bring', 'bring one that was made elsewhere'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElForm v-if="way !== 'bring'" label-position="top" class="row" @submit.prevent="make">
        <ElFormItem label="Kind">
          <ElSelect v-model="kind">
            <ElOption v-for="[value, text] in kinds" :key="value" :value="value" :label="text" />
          </ElSelect>
        </ElFormItem>
        <ElButton type="primary" native-type="submit" :loading="busy">Make the next key</ElButton>
      </ElForm>
      <ElForm v-else label-position="top" @submit.prevent="bring">
        <FilePick label="File" hint="PEM with key and certificate, or PKCS #12." @files="bundle" />
        <ElFormItem label="Password of the file">
          <ElInput v-model="password" type="password" autocomplete="off" />
          <small>For PKCS #12.</small>
        </ElFormItem>
        <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!data"
          >Take it as the next key</ElButton
        >
      </ElForm>
    </div>
    <div v-else-if="roll.step === 'publish'" class="act">
      <p v-if="token">The next key is made ({{ roll.next!.kind }}).</p>
      <p v-else>
        The next key is made ({{ roll.next!.kind }}, ends <TimeText :at="roll.next!.notAfter" />). Its certificate is
        our own; where partners want one from an authority, have it signed now.
      </p>
      <details v-if="!token">
        <summary>A certificate from an authority</summary>
        <p>
          <a :href="`/api/v1/keys/${roll.next!.id}/request`" download="gate.csr">Download the signing request (CSR)</a>
        </p>
        <ElForm label-position="top" @submit.prevent="certify">
          <ElFormItem label="What the authority gave back">
            <ElInput v-model="chain" type="textarea" :rows="4" class="mono" spellcheck="false" autocomplete="off" />
            <small>PEM, the chain in any order.</small>
          </ElFormItem>
          <ElButton native-type="submit" :loading="busy" :disabled="!chain.trim()">Use this certificate</ElButton>
        </ElForm>
      </details>
      <div class="row">
        <ElButton type="primary" :loading="busy" @click="publish">Publish it beside the active one</ElButton>
        <ElButton @click="discard">Discard it</ElButton>
      </div>
    </div>
    <div v-else-if="roll.step === 'wait'" class="act">
      <p v-if="token">
        The next key is in our key set since <TimeText :at="roll.next!.published" from />. An hour is enough for
        partners that look once an hour; most look when they need to.
      </p>
      <p v-else>
        <b>{{ roll.have }} of {{ roll.count }}</b> partners have the next certificate.
        <template v-if="all">Everybody has it: you can switch.</template
        ><template v-else>Those who don't fetch our metadata by themselves get the exchange sheet.</template>
      </p>
      <ElForm label-position="top" class="row" @submit.prevent="change">
        <ElFormItem label="When">
          <ElDatePicker v-model="at" type="datetime" format="YYYY-MM-DD HH:mm" value-format="YYYY-MM-DDTHH:mm" />
          <small>Leave empty to switch at once.</small>
        </ElFormItem>
        <ElCheckbox v-if="at && !token && !all" v-model="anyway" label="Whoever has it by then" />
        <ElButton type="primary" native-type="submit" :loading="busy">{{
          at ? "Plan the switch" : "Switch now"
        }}</ElButton>
        <ElButton @click="undo(roll.next!)">Take the publication back</ElButton>
      </ElForm>
    </div>
    <div v-else-if="roll.step === 'scheduled'" class="act">
      <p>
        The gate switches <TimeText :at="roll.next!.switchAt" from /> (<TimeText :at="roll.next!.switchAt" />).<template
          v-if="!token"
        >
          {{ roll.have }} of {{ roll.count }} partners have the next certificate.</template
        >
      </p>
      <ElButton :loading="busy" @click="undo(roll.next!)">Take the plan back</ElButton>
    </div>
    <div v-else-if="roll.step === 'keep'" class="act">
      <p>
        The new key is active since <TimeText :at="roll.active!.switched" from />. The old one still
        {{
          encryption ? "opens what was encrypted for it" : token ? "stands in our key set" : "stands in our metadata"
        }}, and the switch can be taken back.
      </p>
      <div class="row">
        <ElButton :loading="busy" @click="undo(roll.active!)">Go back to the old key</ElButton>
        <ElButton v-for="k in roll.retiring" :key="k.id" type="danger" :loading="busy" @click="retire(k)"
          >Retire the old key</ElButton
        >
        <ElButton @click="way = 'again'">Replace the new one as well</ElButton>
      </div>
    </div>
    <p v-if="failed" class="error" role="alert">{{ failed }}</p>
    <div class="keys">
      <article
        v-for="[word, k, state] in [
          ['Active', roll.active, 'sound'],
          ['Next', roll.next, 'attention'],
        ] as [string, Key | undefined, string][]"
        v-show="k"
        :key="word"
      >
        <template v-if="k"
          ><h3>
            {{ word }} <span class="tag" :class="state">{{ k.kind }}</span>
          </h3>
          <p class="small">
            {{ k.subject }}<template v-if="k.chain?.length"> under {{ k.chain[0] }}</template>
          </p>
          <p class="small">
            <template v-if="!token">ends <TimeText :at="k.notAfter" /> (<TimeText :at="k.notAfter" from />)</template
            ><template v-if="word === 'Active'"
              ><br />used by {{ k.usedBy }} partner{{ k.usedBy === 1 ? "" : "s"
              }}<template v-if="!encryption"> · last signed <TimeText :at="k.lastUsed" from /></template
            ></template>
          </p>
          <CopyValue :value="k.sha256" label="the SHA-256 fingerprint" />
          <p class="small">
            <a :href="`/api/v1/keys/${k.id}/certificate?form=pem`" download="certificate.pem">PEM</a> ·
            <a :href="`/api/v1/keys/${k.id}/certificate?form=der`" download="certificate.cer">DER</a
            ><template v-if="k.chain?.length">
              · <a :href="`/api/v1/keys/${k.id}/certificate?form=chain`" download="chain.pem">chain</a></template
            >
          </p></template
        >
      </article>
      <article v-for="k in roll.retiring" :key="k.id">
        <h3>
          Retiring <span class="tag">{{ k.kind }}</span>
        </h3>
        <p class="small">ends <TimeText :at="k.notAfter" /></p>
        <CopyValue :value="k.sha256" label="the SHA-256 fingerprint" />
      </article>
    </div>
    <template
      v-if="roll.partners.length && (roll.step === 'wait' || roll.step === 'scheduled' || roll.step === 'keep')"
    >
      <h3>Who has it</h3>
      <ElTable table-layout="auto" :data="roll.partners">
        <ElTableColumn label="Partner">
          <template #default="{ row: p }">
            <RouterLink :to="`/${p.kind}s/${p.slug}`">{{ p.name }}</RouterLink>
            <span class="soft small">{{ p.kind }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Has it">
          <template #default="{ row: p }">
            <template v-if="p.has"
              ><span class="tag sound">yes</span>
              <span class="soft small"
                >{{ how[p.how ?? ""] }} <TimeText :at="p.at" from /><template v-if="p.how === 'confirmed'">
                  by {{ p.by }}</template
                ></span
              ></template
            ><span v-else class="tag attention">not known</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Last sign-in">
          <template #default="{ row: p }">
            <TimeText :at="p.lastSignIn" from />
          </template>
        </ElTableColumn>
        <ElTableColumn>
          <template #header>
            <span class="visually-hidden">Actions</span>
          </template>
          <template #default="{ row: p }">
            <ElButton
              v-if="engineer && p.how !== 'fetched'"
              size="small"
              @click="confirmed(p as Holder, (roll.next ?? roll.active)!)"
              >{{ p.has ? "Not so" : "They have it" }}</ElButton
            >
          </template>
        </ElTableColumn>
      </ElTable>
    </template>
  </template>
</template>

<style scoped>
.steps {
  list-style: none;
  padding: 0;
  margin: 0 0 14px;
  display: grid;
  grid-template-columns: repeat(5, minmax(0, 1fr));
  border: 1px solid var(--rule);
  border-radius: 4px;
}
.steps li {
  padding: 9px 12px;
  border-right: 1px solid var(--hair);
  font-size: 14px;
}
.steps li:last-child {
  border: 0;
}
.steps span {
  display: block;
  color: var(--soft);
  font-size: 13px;
}
.steps b span {
  display: inline;
  color: inherit;
  font-size: inherit;
}
.steps .done b {
  color: var(--moss);
}
.steps .now {
  box-shadow: inset 0 -3px 0 var(--brass-line);
}
.act {
  margin-bottom: 14px;
}
.act .row {
  align-items: flex-end;
}
.act > .el-form-item {
  margin-bottom: 10px;
  max-width: 420px;
}
.act form .el-form-item {
  margin-bottom: 10px;
}
.act form.row .el-form-item {
  margin-bottom: 0;
  min-width: 180px;
}
.keys {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 14px 24px;
  border-top: 1px solid var(--hair);
  padding-top: 12px;
  margin-bottom: 12px;
}
.keys p {
  margin: 2px 0;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 4px 0;
}
details {
  margin-bottom: 10px;
}
@media (max-width: 900px) {
  .steps {
    grid-template-columns: 1fr 1fr;
  }
}
</style>
