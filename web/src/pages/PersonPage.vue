<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { http, ok } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import SessionTable from "../components/SessionTable.vue";
import TimeText from "../components/TimeText.vue";
import TraceTable from "../components/TraceTable.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useAct, useLoad } from "../composables/load";

const route = useRoute();
const router = useRouter();
const id = computed(() => String(route.params.id ?? ""));
const fresh = computed(() => !id.value);
const params = () => ({ path: { id: id.value } });
const {
  data: person,
  error,
  missing,
} = useLoad(async () => (fresh.value ? null : ok(http.GET("/people/{id}", { params: params() }))), [id]);
const { data: settings } = useLoad(() => ok(http.GET("/people-settings")));
const { data: traces } = useLoad(
  async () =>
    person.value ? ok(http.GET("/traces", { params: { query: { search: person.value.name, limit: 5 } } })) : null,
  [() => person.value?.id],
);
const sessions = useLoad(
  async () =>
    person.value ? ok(http.GET("/sessions", { params: { query: { person: person.value.id, limit: 20 } } })) : null,
  [() => person.value?.id],
);
const endAll = async () =>
  (await sure(`End all sessions of ${person.value!.name}? Their applications are told.`, "End them")) &&
  act(async () => {
    await ok(http.DELETE("/people/{id}/sessions", { params: params() }));
    await sessions.again();
  });
const endOne = (s: { id: string }) =>
  act(async () => {
    await ok(http.DELETE("/sessions/{id}", { params: { path: { id: s.id } } }));
    await sessions.again();
  });
const values = ref<{ name: string; text: string }[]>([]);
const type = ref("");
const active = ref(true);
const login = ref("");
const chosen = ref<string[]>([]);
const { error: saveError, busy, act } = useAct();
const wordsOf = (name: string) =>
  settings.value?.settings.attributes.find((a) => a.name === name)?.words ||
  settings.value?.names.find((n) => n.claim === name)?.words ||
  name;

function read() {
  const p = person.value;
  const profile = (p?.profile ?? {}) as Record<string, string[]>;
  const names = [
    ...(settings.value?.settings.attributes ?? []).filter((a) => !a.session).map((a) => a.name),
    ...Object.keys(profile),
  ];
  values.value = [...new Set(names)].map((name) => ({ name, text: (profile[name] ?? []).join("\n") }));
  type.value = p?.type ?? settings.value?.settings.types[0] ?? "";
  active.value = p?.active ?? true;
  login.value = p?.login ?? "";
  chosen.value = (p?.groups ?? []).filter((g) => g.by.includes("hand")).map((g) => g.slug);
}
watch([person, settings], read, { immediate: true });

const store = () =>
  act(async () => {
    const profile = Object.fromEntries(
      values.value
        .map((v) => [
          v.name.trim(),
          v.text
            .split("\n")
            .map((t) => t.trim())
            .filter(Boolean),
        ])
        .filter(([n, v]) => n && v!.length),
    ) as Record<string, string[]>;
    const body = { profile, type: type.value, active: active.value, groups: chosen.value, login: login.value.trim() };
    if (fresh.value) {
      const made = await ok(http.POST("/people", { body }));
      await router.replace(`/people/${made.id}`);
      return;
    }
    person.value = await ok(http.PUT("/people/{id}", { params: params(), body }));
  });
const unlink = async (link: string, provider: string) =>
  (await sure(
    `Take the link to ${provider} away? The subject is then a stranger again, and groups that the provider gave go.`,
    "Take it away",
  )) &&
  act(async () => {
    await ok(http.DELETE("/people/{id}/links/{link}", { params: { path: { id: id.value, link } } }));
    person.value = await ok(http.GET("/people/{id}", { params: params() }));
  });
const reference = ref("");
const linkUp = () =>
  act(async () => {
    person.value = await ok(
      http.POST("/people/{id}/links", { params: params(), body: { reference: reference.value } }),
    );
    reference.value = "";
  });
const remove = async () =>
  (await sure(
    `Delete ${person.value!.name}, with ${person.value!.links.length} links and all assignments? Traces and journal lines stay.`,
    "Delete it",
  )) &&
  act(async () => {
    await ok(http.DELETE("/people/{id}", { params: params() }));
    await router.push("/people");
  });
const link = ref("");
const makeLink = () =>
  act(async () => {
    link.value = (await ok(http.POST("/people/{id}/password-link", { params: params() }))).link;
  });
const drop = async (credential: string, kind: string) =>
  (await sure(`Take this ${kindWords[kind]} away? All that is open of the person ends.`, "Take it away")) &&
  act(async () => {
    await ok(http.DELETE("/people/{id}/credentials/{credential}", { params: { path: { id: id.value, credential } } }));
    person.value = await ok(http.GET("/people/{id}", { params: params() }));
  });
const kindWords: Record<string, string> = {
  password: "password",
  totp: "second factor",
  recovery: "set of recovery codes",
  passkey: "passkey",
};
const given = computed(() => (person.value?.groups ?? []).filter((g) => g.by.some((b) => b !== "hand")));
/** The attribute's own name, and who said its value. */
function origin(name: string) {
  const by = person.value?.sources[name];
  if (!by) return name;
  return `${name} · ${by === "hand" ? "entered here" : `from ${by}`}`;
}
</script>

<template>
  <div v-if="missing" class="panel empty">
    <p>There is no such person.</p>
    <RouterLink to="/people">All people</RouterLink>
  </div>
  <p v-else-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="fresh || person">
    <div class="head">
      <div>
        <h1>{{ person?.name ?? "A new person" }}</h1>
        <p v-if="person" class="sub">
          {{ person.type }} · {{ person.active ? "active" : "not active" }} · known since
          <TimeText :at="person.created" />
        </p>
      </div>
    </div>
    <div class="cols">
      <ElForm label-position="top" class="panel" @submit.prevent="store">
        <h2>Profile</h2>
        <div class="grid">
          <div v-for="v in values" :key="v.name">
            <ElFormItem :label="wordsOf(v.name)">
              <ElInput
                v-model="v.text"
                :type="v.text.includes('\n') ? 'textarea' : 'text'"
                :rows="v.text.includes('\n') ? Math.min(6, v.text.split('\n').length) : undefined"
                spellcheck="false"
                autocomplete="off"
              />
              <small>{{ origin(v.name) }}</small>
            </ElFormItem>
          </div>
        </div>
        <p>
          <ElButton size="small" @click="values.push({ name: '', text: '' })">Add an attribute</ElButton>
        </p>
        <div v-for="(v, i) in values.filter((x) => !wordsOf(x.name))" :key="i" class="grid">
          <ElFormItem label="Name of the attribute">
            <ElInput v-model="v.name" class="mono" spellcheck="false" autocomplete="off" />
          </ElFormItem>
        </div>
        <div class="grid">
          <ElFormItem label="Person type">
            <ElSelect v-model="type">
              <ElOption
                v-for="[value, text] in (settings?.settings.types ?? []).map((t) => [t, t] as [string, string])"
                :key="value"
                :value="value"
                :label="text"
              />
            </ElSelect>
          </ElFormItem>
          <ElFormItem label="Name in the gate's own directory">
            <ElInput v-model="login" class="mono" spellcheck="false" autocomplete="off" />
            <small>For people who sign in with a password or passkey here. Empty for none.</small>
          </ElFormItem>
        </div>
        <ElCheckbox v-model="active"
          ><b>Active</b
          ><small
            >Without it every sign-in and token ends at once, and nobody gets in by this record.</small
          ></ElCheckbox
        >
        <ElFormItem label="Groups, given by hand">
          <ObjectPick v-model="chosen" of="groups" multiple placeholder="none" />
        </ElFormItem>
        <p v-if="given.length" class="soft">
          Given by providers:
          <template v-for="g in given" :key="g.slug"
            >{{ g.name }} ({{ g.by.filter((b) => b !== "hand").join(", ") }})
          </template>
        </p>
        <ElButton type="primary" native-type="submit" :loading="busy">{{ fresh ? "Add" : "Save" }}</ElButton>
        <p v-if="saveError" class="error" role="alert">{{ saveError }}</p>
      </ElForm>
      <div v-if="person" class="stack">
        <section class="panel">
          <h2>Links</h2>
          <div v-for="l in person.links" :key="l.id" class="item">
            <RouterLink v-if="l.slug" :to="`/providers/${l.slug}`"
              ><b>{{ l.provider }}</b></RouterLink
            ><b v-else>{{ l.provider }}</b
            ><br /><span class="mono">{{ l.subject }}</span
            ><br /><span class="soft small"
              >first <TimeText :at="l.firstUsed" from />, last <TimeText :at="l.lastUsed" from /></span
            ><br />
            <ElButton size="small" type="danger" @click="unlink(l.id, l.provider)">Take away</ElButton>
          </div>
          <p v-if="!person.links.length" class="soft">Linked to no provider yet.</p>
          <ElForm label-position="top" class="item" @submit.prevent="linkUp">
            <ElFormItem label="Link a sign-in that found nobody">
              <ElInput v-model="reference" class="mono" spellcheck="false" autocomplete="off" />
              <small>Its reference number. Make sure that it was this person.</small>
            </ElFormItem>
            <ElButton size="small" native-type="submit" :disabled="!reference.trim()" :loading="busy">Link</ElButton>
          </ElForm>
        </section>
        <section v-if="person.login" class="panel">
          <h2>Signs in here</h2>
          <div v-for="c in person.credentials" :key="c.id" class="item">
            <b>{{
              {
                password: "Password",
                totp: "Authenticator",
                recovery: `${c.left} recovery codes`,
                passkey: `Passkey, ${c.name}`,
              }[c.kind] ?? c.kind
            }}</b><br /><span class="soft small"
              >since <TimeText :at="c.created" from />, used <TimeText :at="c.lastUsed" from /></span
            ><br />
            <ElButton size="small" type="danger" @click="drop(c.id, c.kind)">Take away</ElButton>
          </div>
          <p v-if="!person.credentials.length" class="soft">There is no password yet.</p>
          <p>
            <ElButton size="small" :loading="busy" @click="makeLink">Make a link to set a password</ElButton>
          </p>
          <template v-if="link"
            ><p><b>Send it now; it is shown once, works once, and is good for two days.</b></p>
            <CopyValue :value="link" label="the link" />
          </template>
        </section>
        <section class="panel">
          <h2>Accounts</h2>
          <div v-for="a in person.accounts" :key="a.slug" class="item">
            <RouterLink :to="`/applications/${a.slug}`"
              ><b>{{ a.application }}</b></RouterLink
            ><br /><span class="mono">{{ a.subject }}</span
            ><br /><span class="soft small">last <TimeText :at="a.lastAt" from /></span>
          </div>
          <p v-if="!person.accounts.length" class="soft">Has signed in to no application yet.</p>
        </section>
      </div>
    </div>
    <section v-if="person" class="later">
      <h2>Sessions</h2>
      <SessionTable :sessions="sessions.data.value?.items ?? []" :busy="busy" empty="None is open." @end="endOne" />
      <p v-if="sessions.data.value?.items.length">
        <ElButton size="small" type="danger" :loading="busy" @click="endAll">End all of them</ElButton>
      </p>
    </section>
    <section v-if="person" class="later">
      <h2>Newest sign-ins</h2>
      <TraceTable :traces="traces?.items ?? []" empty="No sign-in is kept." />
    </section>
    <p v-if="person" class="later">
      <ElButton type="danger" @click="remove">Delete this person</ElButton>
    </p>
  </template>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(240px, 1fr));
  gap: 0 16px;
}
fieldset {
  border: 1px solid var(--rule);
  border-radius: 4px;
  margin: 0 0 14px;
  padding: 8px 14px;
}
legend {
  font-weight: 700;
  font-size: 14px;
  padding: 0 6px;
}
.item {
  border-bottom: 1px solid var(--hair);
  padding: 8px 0;
}
.later {
  margin-top: 28px;
}
</style>
