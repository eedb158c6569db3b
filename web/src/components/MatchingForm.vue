<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import { http, ok, type Grant, type Provider, type ProviderConfig } from "../api/client";
import { useAct, useLoad } from "../composables/load";
import ContextLines from "./ContextLines.vue";

const props = defineProps<{
  provider: Provider;
  readonly?: boolean;
  save: (change: (held: ProviderConfig) => ProviderConfig) => Promise<void>;
}>();
type GrantRow = { attribute: string; value: string; condition: string; groups: string; type: string };
const admission = ref("refuse");
const ways = ref<{ by: string; expr: string }[]>([]);
const domains = ref(""),
  scopes = ref(""),
  stronger = ref(""),
  admitGroups = ref(""),
  admitType = ref("");
const contexts = ref<NonNullable<ProviderConfig["contexts"]>>([]);
const unscoped = ref(false),
  proven = ref(false),
  elsewhere = ref(false),
  groups = ref("");
const grants = ref<GrantRow[]>([]);
const keep = ref<{ name: string; how: string }[]>([]);
const { error, busy, act } = useAct();
const { data: settings } = useLoad(() => ok(http.GET("/people-settings")));
const types = computed<[string, string][]>(() => (settings.value?.settings.types ?? []).map((t) => [t, t]));
const list = (text: string) =>
  text
    .split(",")
    .map((s) => s.trim())
    .filter(Boolean);

function read() {
  const p = props.provider;
  admission.value = p.admission ?? "refuse";
  ways.value = ((p.matching?.by ?? []) as (string | Record<string, string>)[]).map((w) =>
    typeof w === "string" ? { by: w, expr: "" } : { by: Object.keys(w)[0] ?? "", expr: Object.values(w)[0] ?? "" },
  );
  domains.value = (p.matching?.domains ?? []).join(", ");
  scopes.value = (p.matching?.scopes ?? []).join(", ");
  unscoped.value = !!p.matching?.unscoped;
  proven.value = !!p.matching?.mailUnproven;
  elsewhere.value = !!p.matching?.mailElsewhere;
  groups.value = (p.matching?.groups ?? []).join(", ");
  stronger.value = p.stronger ?? "";
  contexts.value = JSON.parse(JSON.stringify(p.contexts ?? []));
  admitGroups.value = (p.admit?.groups ?? []).join(", ");
  admitType.value = p.admit?.type ?? "";
  grants.value = (p.grants ?? []).map((g) => ({
    attribute: g.attribute ?? "",
    value: g.value ?? "",
    condition: g.if ?? "",
    groups: (g.groups ?? []).join(", "),
    type: g.type ?? "",
  }));
  keep.value = Object.entries(p.keep ?? {}).map(([name, how]) => ({ name, how }));
}
watch(() => JSON.stringify(props.provider), read, { immediate: true });

const store = () =>
  act(() =>
    props.save((held) => {
      const by = ways.value.filter((w) => w.by).map((w) => (w.expr.trim() ? { [w.by]: w.expr.trim() } : w.by));
      const matching = {
        by,
        domains: list(domains.value),
        scopes: list(scopes.value),
        groups: list(groups.value),
        unscoped: unscoped.value || undefined,
        mailUnproven: proven.value || undefined,
        mailElsewhere: elsewhere.value || undefined,
      };
      const out = {
        ...held,
        admission: admission.value,
        stronger: stronger.value.trim() || undefined,
        contexts: contexts.value.length ? contexts.value : undefined,
        matching: Object.values(matching).some((v) => (Array.isArray(v) ? v.length : v)) ? matching : undefined,
        admit:
          admitGroups.value.trim() || admitType.value || held.admit?.defaults?.length
            ? { ...held.admit, groups: list(admitGroups.value), type: admitType.value || undefined }
            : undefined,
        grants: grants.value.map((g): Grant => ({
          attribute: g.attribute.trim() || undefined,
          value: g.value.trim() || undefined,
          if: g.condition.trim() || undefined,
          groups: list(g.groups),
          type: g.type || undefined,
        })),
        keep: Object.fromEntries(keep.value.filter((k) => k.name.trim()).map((k) => [k.name.trim(), k.how])),
      };
      return JSON.parse(JSON.stringify(out)) as ProviderConfig;
    }),
  );
</script>

<template>
  <ElForm label-position="top" @submit.prevent="store">
    <p class="soft">
      People are known by the link that their first sign-in made. Whoever comes without one may be somebody who is known
      already.
    </p>
    <h3>What it may speak for</h3>
    <p class="soft small">
      Mail addresses, user names, external IDs and groups are taken of it within this alone. What it says beyond is
      dropped, and no application, rule or role sees it.
    </p>
    <div class="trust">
      <ElFormItem label="Mail domains">
        <ElInput v-model="domains" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Parted by commas, subdomains named one by one. None is none.</small>
      </ElFormItem>
      <ElCheckbox v-model="proven" :disabled="readonly"
        ><b>Its addresses there count as proven</b
        ><small
          >Only where the provider says nothing itself (email_verified) and gives its people their addresses.</small
        ></ElCheckbox
      >
      <ElCheckbox v-model="elsewhere" :disabled="readonly"
        ><b>Proven addresses of domains that no other provider speaks for</b
        ><small>For a provider that anybody can have an account with. Nobody is found by them.</small></ElCheckbox
      >
      <ElFormItem label="Scopes of identifiers (name@scope)">
        <ElInput v-model="scopes" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElCheckbox v-model="unscoped" :disabled="readonly"
        ><b>User names and external IDs without a scope</b
        ><small>Only for a provider whose names are the gate's own, such as the company's.</small></ElCheckbox
      >
      <ElFormItem label="Values of the attribute groups">
        <ElInput v-model="groups" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
        <small>Parted by commas, each by itself or how it begins: ferry-*. A * alone is any.</small>
      </ElFormItem>
    </div>
    <h3>Find by value</h3>
    <p class="soft small">
      Asked in order, and only within what this provider may speak for. Two who fit, or a value that only looks alike,
      are refused with the reason; nothing is guessed.
    </p>
    <div v-for="(w, i) in ways" :key="i" class="line">
      <ElSelect v-model="w.by" :disabled="readonly" :aria-label="`Way ${i + 1}`">
        <ElOption value="external_id" label="external ID" />
        <ElOption value="username" label="user name" />
        <ElOption value="email" label="mail address" />
      </ElSelect>
      <ElInput
        v-model="w.expr"
        class="mono"
        :disabled="readonly"
        :aria-label="`Expression of way ${i + 1}`"
        placeholder="as the mapping in sets it, or an expression"
      />
      <ElButton v-if="!readonly" text size="small" :aria-label="`Take way ${i + 1} away`" @click="ways.splice(i, 1)"
        >✕</ElButton
      >
    </div>
    <ElButton v-if="!readonly" size="small" @click="ways.push({ by: 'email', expr: '' })">Add a way</ElButton>
    <h3>A stranger</h3>
    <ElFormItem label="A subject that nobody here is">
      <ElSelect v-model="admission" :disabled="readonly">
        <ElOption
          v-for="[value, text] in [
            ['refuse', 'is refused'],
            ['create', 'is created at the first sign-in'],
            ['ask', 'is created after confirming the profile'],
            ['pass', 'is passed through: nobody is matched or stored'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
    <template v-if="admission === 'create' || admission === 'ask'">
      <ElFormItem label="Begins in the groups">
        <ElInput v-model="admitGroups" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Begins as">
        <ElSelect v-model="admitType" :disabled="readonly">
          <ElOption
            v-for="[value, text] in [['', 'the usual type'], ...types]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
    </template>
    <h3>Groups and type at each sign-in</h3>
    <p class="soft small">
      For known people too. What this provider gave goes when its claim goes; what was given by hand stays.
    </p>
    <ElTable v-if="grants.length" table-layout="auto" :data="grants">
      <ElTableColumn label="Attribute">
        <template #default="{ row: g, $index: i }">
          <ElInput
            v-model="g.attribute"
            class="mono"
            :disabled="readonly"
            :aria-label="`Attribute of grant ${i + 1}`"
          />
        </template>
      </ElTableColumn>
      <ElTableColumn label="has the value">
        <template #default="{ row: g, $index: i }">
          <ElInput v-model="g.value" class="mono" :disabled="readonly" :aria-label="`Value of grant ${i + 1}`" />
        </template>
      </ElTableColumn>
      <ElTableColumn label="or this holds">
        <template #default="{ row: g, $index: i }">
          <ElInput
            v-model="g.condition"
            class="mono"
            :disabled="readonly"
            :aria-label="`Condition of grant ${i + 1}`"
          />
        </template>
      </ElTableColumn>
      <ElTableColumn label="Groups">
        <template #default="{ row: g, $index: i }">
          <ElInput v-model="g.groups" class="mono" :disabled="readonly" :aria-label="`Groups of grant ${i + 1}`" />
        </template>
      </ElTableColumn>
      <ElTableColumn label="Type">
        <template #default="{ row: g, $index: i }">
          <ElSelect v-model="g.type" :disabled="readonly" :aria-label="`Type of grant ${i + 1}`">
            <ElOption value="" label="as it is" />
            <ElOption v-for="[v, t] in types" :key="v" :value="v" :label="t" />
          </ElSelect>
        </template>
      </ElTableColumn>
      <ElTableColumn>
        <template #header>
          <span class="visually-hidden">Acts</span>
        </template>
        <template #default="{ $index: i }">
          <ElButton
            v-if="!readonly"
            text
            size="small"
            :aria-label="`Take grant ${i + 1} away`"
            @click="grants.splice(i, 1)"
            >✕</ElButton
          >
        </template>
      </ElTableColumn>
    </ElTable>
    <ElButton
      v-if="!readonly"
      size="small"
      @click="grants.push({ attribute: 'groups', value: '', condition: '', groups: '', type: '' })"
      >Add a grant</ElButton
    >
    <h3>The profile at later sign-ins</h3>
    <p class="soft small">What the provider sends replaces what is held, but for these:</p>
    <div v-for="(k, i) in keep" :key="i" class="line">
      <ElInput
        v-model="k.name"
        class="mono"
        :disabled="readonly"
        :aria-label="`Attribute ${i + 1} with a rule of its own`"
        placeholder="phone_number"
      />
      <ElSelect v-model="k.how" :disabled="readonly" :aria-label="`Rule for attribute ${i + 1}`">
        <ElOption value="provider" label="the provider wins" />
        <ElOption value="first" label="the first value stays" />
        <ElOption value="local" label="what was entered here stays" />
      </ElSelect>
      <ElButton
        v-if="!readonly"
        text
        size="small"
        :aria-label="`Take attribute ${i + 1} away`"
        @click="keep.splice(i, 1)"
        >✕</ElButton
      >
    </div>
    <ElButton v-if="!readonly" size="small" @click="keep.push({ name: '', how: 'local' })">Add an attribute</ElButton>
    <h3>A stronger sign-in</h3>
    <ElFormItem label="Ask the provider for">
      <ElInput v-model="stronger" :disabled="readonly" class="mono" spellcheck="false" autocomplete="off" />
      <small
        >The context (SAML) or acr value by which it asks for a second factor, where an access rule wants one.</small
      >
    </ElFormItem>
    <h3>What its contexts stand for</h3>
    <p class="soft small">
      Applications ask for a strength of sign-in in their own words, and providers say it in theirs, or not at all. Each
      line holds both ways.
    </p>
    <ContextLines v-model="contexts" :readonly="readonly" :methods="provider.kind === 'oidc'" />
    <ElButton v-if="!readonly" type="primary" native-type="submit" :loading="busy">Save</ElButton>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </ElForm>
</template>

<style scoped>
.line {
  display: flex;
  gap: 6px;
  margin-bottom: 6px;
}
.mono {
  font-family: var(--mono);
}
.trust {
  margin-top: 12px;
  padding-left: 14px;
  border-left: 3px solid var(--brass-line);
}
h3 {
  margin: 18px 0 4px;
}
</style>
