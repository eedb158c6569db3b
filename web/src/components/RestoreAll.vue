<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok, type ConfigResult } from "../api/client";
import { fromInput, toInput } from "../composables/changes";
import { useAct } from "../composables/load";
import ConfigSteps from "./ConfigSteps.vue";

// The whole configuration brought back, as it was at a time.
const emit = defineEmits<{ done: [result: ConfigResult] }>();
const at = ref(toInput(new Date(Date.now() - 3600_000)));
const remark = ref("");
const whole = ref<ConfigResult | null>(null);
const { error, busy, act } = useAct();
const back = (look: boolean) =>
  act(async () => {
    const got = await ok(
      http.POST("/history/restore", {
        body: { at: fromInput(at.value), preview: look, remark: remark.value.trim() || undefined },
      }),
    );
    whole.value = look ? got : null;
    if (!look) emit("done", got);
  });
</script>

<template>
  <section class="panel whole">
    <h2>Everything, as it was at a time</h2>
    <p class="soft">
      What was made since then is deleted, what was deleted comes back, and everything else is as it was. People,
      sessions and keys stay as they are.
    </p>
    <div class="row restore">
      <ElFormItem label="When">
        <ElDatePicker v-model="at" type="datetime" format="YYYY-MM-DD HH:mm" value-format="YYYY-MM-DDTHH:mm" />
      </ElFormItem>
      <ElFormItem label="Remark">
        <ElInput v-model="remark" autocomplete="off" />
      </ElFormItem>
      <ElButton :loading="busy" @click="back(true)">See what it would do</ElButton>
      <ElButton v-if="whole?.steps.length" type="danger" :loading="busy" @click="back(false)"
        >Bring everything back</ElButton
      >
    </div>
    <ConfigSteps v-if="whole" :result="whole" />
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </section>
</template>

<style scoped>
.restore {
  align-items: end;
  margin-top: 12px;
}
.restore :deep(.el-form-item) {
  margin: 0;
  min-width: 14rem;
}
.whole {
  margin-top: 24px;
}
</style>
