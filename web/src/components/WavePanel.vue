<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type Move, type MoveWave } from "../api/client";
import { fromInput } from "../composables/changes";
import { useAct } from "../composables/load";
import { useSession } from "../composables/session";
import TimeText from "./TimeText.vue";

const props = defineProps<{ move: Move; wave: MoveWave; readonly?: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const session = useSession();
const { error, busy, act } = useAct();
const params = () => ({ path: { slug: props.move.slug, number: String(props.wave.number) } });
const apps = computed(() => props.move.apps.filter((a) => a.wave === props.wave.number));
const opens = ref("");
const closes = ref("");
const failures = ref(String(props.wave.limits.failures));
const differences = ref(String(props.wave.limits.differences));
const minutes = ref("60");
const anyway = ref(false);
const reason = ref("");
const done = async (run: () => Promise<unknown>) => {
  if (await act(async () => void (await run()))) emit("changed");
};
const limits = () => ({ failures: Number(failures.value) || 0, differences: Number(differences.value) || 0 });
const plan = () =>
  done(() =>
    ok(
      http.PUT("/moves/{slug}/waves/{number}", {
        params: params(),
        body: { opens: fromInput(opens.value), closes: fromInput(closes.value), limits: limits() },
      }),
    ),
  );
const anew = () =>
  done(() =>
    ok(
      http.PUT("/moves/{slug}/waves/{number}", {
        params: params(),
        body: { applications: apps.value.filter((a) => a.state !== "moved").map((a) => a.slug), limits: limits() },
      }),
    ),
  );
const open = () =>
  done(() =>
    ok(
      http.POST("/moves/{slug}/waves/{number}/open", {
        params: params(),
        body: { minutes: Number(minutes.value) || 60, anyway: anyway.value || undefined },
      }),
    ),
  );
const back = () =>
  done(() =>
    ok(
      http.POST("/moves/{slug}/waves/{number}/back", {
        params: params(),
        body: { reason: reason.value.trim() || undefined },
      }),
    ),
  );
const approve = () => done(() => ok(http.POST("/moves/{slug}/waves/{number}/approve", { params: params() })));
const states: Record<string, { text: string; state: string }> = {
  planned: { text: "planned", state: "" },
  open: { text: "open", state: "attention" },
  settled: { text: "settled", state: "sound" },
  back: { text: "went back", state: "broken" },
};
const blocked = computed(() => apps.value.some((a) => a.verdict.state === "blocked"));
</script>

<template>
  <section class="panel" :aria-label="`Wave ${wave.number}`">
    <div class="head">
      <h2>
        Wave {{ wave.number }}
        <span class="tag" :class="states[wave.state]?.state">{{ states[wave.state]?.text ?? wave.state }}</span>
      </h2>
      <p v-if="wave.state === 'open'" class="counts" role="status">
        until <TimeText :at="wave.closes" /> · <b>{{ wave.count.signedIn }}</b> signed in ·
        <b>{{ wave.count.failed }}</b> failed, bears {{ wave.limits.failures }} ·
        <b>{{ wave.count.differed }}</b> differ, bears {{ wave.limits.differences }}
      </p>
      <p v-else-if="wave.opens && wave.state === 'planned'" class="counts">
        opens by itself <TimeText :at="wave.opens" from />
      </p>
    </div>
    <p v-if="wave.note" class="note">{{ wave.note[0]?.toUpperCase() + wave.note.slice(1) }}</p>
    <slot />
    <div v-if="!readonly" class="acts">
      <template v-if="wave.state === 'planned'">
        <p v-if="wave.needsSecond" class="soft">
          A second person has to approve it.
          <ElButton v-if="wave.plannedBy !== session.me?.name" size="small" :loading="busy" @click="approve"
            >Approve</ElButton
          >
        </p>
        <div class="row">
          <ElFormItem label="Minutes in which it can go back by itself">
            <ElInput v-model="minutes" autocomplete="off" />
          </ElFormItem>
          <ElButton type="primary" :loading="busy" :disabled="!apps.length || wave.needsSecond" @click="open"
            >Open it now</ElButton
          >
          <ElCheckbox v-if="blocked" v-model="anyway">Although it is not ready</ElCheckbox>
        </div>
        <details>
          <summary>Window and what it bears</summary>
          <div class="row">
            <ElFormItem label="Opens">
              <ElDatePicker v-model="opens" type="datetime" format="YYYY-MM-DD HH:mm" value-format="YYYY-MM-DDTHH:mm" />
            </ElFormItem>
            <ElFormItem label="Closes">
              <ElDatePicker
                v-model="closes"
                type="datetime"
                format="YYYY-MM-DD HH:mm"
                value-format="YYYY-MM-DDTHH:mm"
              />
            </ElFormItem>
            <ElFormItem label="Failed sign-ins that it bears">
              <ElInput v-model="failures" autocomplete="off" />
            </ElFormItem>
            <ElFormItem label="People for whom something may differ">
              <ElInput v-model="differences" autocomplete="off" />
            </ElFormItem>
            <ElButton :loading="busy" @click="plan">Keep</ElButton>
          </div>
        </details>
      </template>
      <div v-else-if="wave.state === 'open' || wave.state === 'settled'" class="row">
        <ElFormItem label="Why">
          <ElInput v-model="reason" autocomplete="off" />
        </ElFormItem>
        <ElButton type="danger" :loading="busy" @click="back">Take it back at once</ElButton>
      </div>
      <ElButton v-else :loading="busy" @click="anew">Plan it anew</ElButton>
    </div>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
section {
  margin-top: 20px;
}
.counts {
  margin: 0;
}
.note {
  border-left: 4px solid var(--rust-line);
  padding: 4px 14px;
  background: var(--rust-tint);
}
.acts {
  border-top: 1px solid var(--rule);
  margin-top: 12px;
  padding-top: 12px;
}
.acts .row {
  align-items: end;
}
.acts :deep(.el-form-item),
.acts :deep(.el-checkbox) {
  margin: 0;
}
summary {
  cursor: pointer;
  color: var(--sea);
  padding: 6px 0;
}
</style>
