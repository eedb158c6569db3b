<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Secret, type TriedSecret } from "../api/client";
import type { Kind } from "../composables/partner";
import { useAct } from "../composables/load";
import CopyValue from "./CopyValue.vue";
import TimeText from "./TimeText.vue";

const props = defineProps<{
  kind: Kind;
  slug: string;
  secrets: Secret[];
  readonly?: boolean;
  directory?: boolean;
  /** The secret is a certificate with its key. */
  certificate?: boolean;
}>();
const emit = defineEmits<{ changed: [] }>();
const path = computed(() => ({ path: { slug: props.slug } }));
const one = (id: string) => ({ params: { path: { slug: props.slug, id } } });
const ours = computed(() => props.kind === "applications");
const fresh = ref("");
const days = ref("365");
const value = ref("");
const ends = ref("");
const tried = ref<Record<string, TriedSecret>>({});
const { error, busy, act } = useAct();
const done = (f: () => Promise<unknown>) =>
  act(async () => {
    await f();
    emit("changed");
  });

const make = () =>
  done(async () => {
    fresh.value =
      (await ok(http.POST("/applications/{slug}/secrets", { params: path.value, body: { days: Number(days.value) } })))
        .secret ?? "";
  });
const enter = () =>
  done(async () => {
    await ok(
      http.POST("/providers/{slug}/secrets", {
        params: path.value,
        body: {
          value: value.value,
          expires: ends.value ? new Date(`${ends.value}T00:00:00Z`).toISOString() : undefined,
        },
      }),
    );
    value.value = ends.value = "";
  });
const attempt = (id: string) =>
  done(async () => {
    tried.value[id] = await ok(http.POST("/providers/{slug}/secrets/{id}/try", one(id)));
  });
const change = () => done(() => ok(http.POST("/providers/{slug}/secrets/switch", { params: path.value })));
const remove = async (s: Secret) =>
  (await sure(
    ours.value ? "Take this secret back? What uses it fails at once." : "Forget this secret?",
    ours.value ? "Take it back" : "Forget it",
  )) &&
  done(() =>
    ours.value
      ? ok(http.DELETE("/applications/{slug}/secrets/{id}", one(s.id)))
      : ok(http.DELETE("/providers/{slug}/secrets/{id}", one(s.id))),
  );
const states: Record<string, string> = { taken: "sound", refused: "broken", unclear: "attention" };
</script>

<template>
  <section class="secrets">
    <h3 v-if="directory">{{ certificate ? "Certificate" : "Password" }} of the gate's own entry there</h3>
    <h3 v-else>{{ ours ? "Client secrets that it holds" : "Client secrets that the provider gave us" }}</h3>
    <ElTable v-if="secrets.length" table-layout="auto" :data="secrets" row-key="id">
      <ElTableColumn label="Begins">
        <template #default="{ row: s }">
          <span class="mono">{{ s.hint ? `${s.hint}…` : "–" }}</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="State">
        <template #default="{ row: s }">
          <span class="tag" :class="s.state === 'next' ? 'attention' : 'sound'">{{
            s.state === "next" ? "next" : "in use"
          }}</span><span v-if="s.tried" class="tag" :class="states[s.tried]">{{ s.tried }} when tried</span>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Since">
        <template #default="{ row: s }">
          <TimeText :at="s.created" from />
        </template>
      </ElTableColumn>
      <ElTableColumn label="Ends">
        <template #default="{ row: s }">
          <TimeText v-if="s.expires" :at="s.expires" from /><template v-else>no end</template>
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="ours" label="Last used">
        <template #default="{ row: s }">
          <TimeText v-if="s.lastUsed" :at="s.lastUsed" from /><template v-else>never</template>
        </template>
      </ElTableColumn>
      <ElTableColumn v-if="!readonly" min-width="160">
        <template #header>
          <span class="visually-hidden">Acts</span>
        </template>
        <template #default="{ row: s }">
          <div class="acts">
            <ElButton v-if="!ours && !directory" size="small" :loading="busy" @click="attempt(s.id)"
              >Try this secret</ElButton
            >
            <ElButton v-if="s.state === 'next'" size="small" type="primary" :loading="busy" @click="change"
              >Switch to it</ElButton
            >
            <ElButton size="small" type="danger" @click="remove(s as Secret)">{{
              ours ? "Take back" : "Forget"
            }}</ElButton>
          </div>
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-else class="soft">
      {{
        ours
          ? "It holds none yet, so it can't exchange codes for tokens."
          : directory
            ? "None is stored. The directory is asked as nobody, or not at all."
            : "None is stored yet, so no code can be exchanged."
      }}
    </p>
    <p v-for="s in secrets.filter((x) => tried[x.id])" :key="s.id" aria-live="polite">
      <span class="mono">{{ s.hint ? `${s.hint}…` : "–" }}</span> <b>{{ tried[s.id]!.result }}</b>:
      {{ tried[s.id]!.text }} <span class="soft">{{ tried[s.id]!.remedy }}</span>
    </p>
    <template v-if="!readonly">
      <ElForm v-if="ours" label-position="top" class="row" @submit.prevent="make">
        <ElFormItem label="Good for">
          <ElSelect v-model="days">
            <ElOption
              v-for="[option, words] in [
                ['90', '90 days'],
                ['365', 'a year'],
                ['730', 'two years'],
                ['0', 'as long as it is not taken back'],
              ]"
              :key="option"
              :value="option"
              :label="words"
            />
          </ElSelect>
        </ElFormItem>
        <ElButton type="primary" native-type="submit" :loading="busy" :disabled="secrets.length > 1">{{
          secrets.length ? "Make a second one" : "Make a secret"
        }}</ElButton>
      </ElForm>
      <p v-if="ours && secrets.length > 1" class="soft small">
        Two are the most. Take back the one that is no longer used.
      </p>
      <div v-if="fresh" class="fresh">
        <p><b>Copy it now; it is shown once.</b> Hand it over apart from the exchange sheet.</p>
        <CopyValue :value="fresh" label="the client secret" />
      </div>
      <ElForm v-if="!ours" label-position="top" @submit.prevent="enter">
        <ElFormItem :label="secrets.length ? 'The next secret' : 'The secret'">
          <ElInput
            v-model="value"
            :type="certificate ? 'textarea' : 'password'"
            :rows="6"
            class="mono"
            spellcheck="false"
            autocomplete="new-password"
          />
          <small v-if="certificate">The certificate and its private key, in PEM, one behind the other.</small>
          <small v-else>Its value, not its ID or number. It is sealed at once and never shown again.</small>
        </ElFormItem>
        <ElFormItem label="Ends on">
          <ElInput v-model="ends" type="date" autocomplete="off" />
          <small>As the provider says; findings warn ahead.</small>
        </ElFormItem>
        <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!value.trim()">{{
          secrets.length ? "Store it as the next one" : "Store it"
        }}</ElButton>
      </ElForm>
    </template>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
.secrets {
  margin-top: 18px;
}
.acts {
  white-space: nowrap;
  text-align: right;
}
.acts .el-button + .el-button {
  margin-left: 8px;
}
.tag + .tag {
  margin-left: 6px;
}
.row {
  align-items: end;
  margin-top: 10px;
}
.row :deep(.el-form-item) {
  margin-bottom: 0;
}
form {
  margin-top: 12px;
  max-width: 34rem;
}
.fresh {
  margin-top: 14px;
  background: var(--brass-tint);
  padding: 10px 14px;
  border-radius: 3px;
}
</style>
