<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, onScopeDispose, ref, watch } from "vue";
import { http, ok, type Application, type Rehearsal } from "../api/client";
import { useAct } from "../composables/load";
import CopyValue from "./CopyValue.vue";
import ObjectPick from "./ObjectPick.vue";
import TimeText from "./TimeText.vue";
import TraceTable from "./TraceTable.vue";

const props = defineProps<{ application: Application; readonly?: boolean; proposal?: string }>();
const flow = ref("sp");
const provider = ref(props.application.providers?.[0] ?? "");
watch(
  () => props.application.providers ?? [],
  (all) => {
    if (!all.includes(provider.value)) provider.value = all[0] ?? "";
  },
);
const stop = ref(false);
const hours = ref("1");
const second = ref("");
const out = ref(false);
const keep = ref(false);
const rehearsal = ref<Rehearsal | null>(null);
const link = ref("");
const { error, busy, act } = useAct();
const spOnly = computed(() => !!props.application.saml?.spInitiatedOnly);

async function order() {
  await act(async () => {
    const made = await ok(
      http.POST("/rehearsals", {
        body: {
          application: props.application.slug,
          flow: flow.value,
          provider: (props.application.providers?.length ?? 0) > 1 ? provider.value : undefined,
          stop: stop.value || undefined,
          second: second.value || undefined,
          signOut: out.value || undefined,
          keepPerson: keep.value || undefined,
          hours: Number(hours.value),
          proposal: props.proposal,
        },
      }),
    );
    rehearsal.value = made;
    link.value = made.link ?? "";
    follow(made.id);
  });
}

// The traces grow here while somebody signs in elsewhere: the service tells when there is something new.
let source: EventSource | null = null;
function follow(id: string) {
  source?.close();
  source = new EventSource(`/api/v1/rehearsals/${id}/events`);
  const look = () =>
    void ok(http.GET("/rehearsals/{id}", { params: { path: { id } } }))
      .then((r) => (rehearsal.value = r))
      .catch(() => undefined);
  source.addEventListener("trace", look);
  source.addEventListener("end", look); // the browser asks again after some seconds, since there can be another sign-in
}
onScopeDispose(() => source?.close());
</script>

<template>
  <div>
    <p class="soft">
      A test sign-in with a link of its own and a fresh sign-in at the provider. It works on drafts, and creates and
      changes nobody unless you say so.
    </p>
    <ElRadioGroup v-model="flow" aria-label="How it begins" class="flows">
      <ElRadio value="sp">
        <span
          ><b>SP-initiated</b><br /><span class="soft small"
            >begins at the application: {{ application.startUrl || "its start address is missing" }}</span
          ></span
        ></ElRadio
      >
      <ElRadio value="idp" :disabled="spOnly">
        <span
          ><b>IdP-initiated</b><br /><span class="soft small">{{
            spOnly
              ? "this application takes SP-initiated sign-in only"
              : "begins at the gate, as from a tile; the application gets a response that it did not ask for"
          }}</span></span
        ></ElRadio
      >
    </ElRadioGroup>
    <ElFormItem v-if="(application.providers?.length ?? 0) > 1" label="Through">
      <ElSelect v-model="provider">
        <ElOption v-for="p in application.providedBy ?? []" :key="p.slug" :value="p.slug" :label="p.name" />
      </ElSelect>
    </ElFormItem>
    <ElCheckbox v-model="stop"
      >Stop at the gate: show what the provider sends and what the application would get</ElCheckbox
    >
    <template v-if="!stop">
      <ElFormItem label="Then open, without being asked again">
        <ObjectPick v-model="second" of="applications" none="none" :except="application.slug" />
      </ElFormItem>
      <ElCheckbox v-model="out">End with signing out of everything</ElCheckbox>
    </template>
    <ElCheckbox v-model="keep">Make and change the person as a real sign-in would</ElCheckbox>
    <ElFormItem label="The link is good for">
      <ElSelect v-model="hours">
        <ElOption
          v-for="[value, text] in [
            ['1', 'an hour'],
            ['8', '8 hours'],
            ['24', 'a day'],
            ['72', 'three days'],
          ]"
          :key="value"
          :value="value"
          :label="text"
        />
      </ElSelect>
    </ElFormItem>
    <ElButton v-if="!readonly" type="primary" :loading="busy" @click="order">Make a rehearsal link</ElButton>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <div v-if="rehearsal" class="made">
      <p>
        <a class="open" :href="link" target="_blank" rel="noopener" data-rehearse>Open it here</a> or hand it to a
        tester. It is good until <TimeText :at="rehearsal.expires" />, for the first browser that begins.
      </p>
      <CopyValue :value="link" label="the rehearsal link" />
      <h3>What came of it</h3>
      <TraceTable :traces="rehearsal.traces" empty="Nobody has begun yet. This page shows the sign-in as it happens." />
    </div>
  </div>
</template>

<style scoped>
.made {
  margin-top: 18px;
  border-top: 1px solid var(--rule);
  padding-top: 12px;
}
.open {
  font-weight: 700;
}
h3 {
  margin-top: 18px;
}
</style>
