<script setup lang="ts">
import { ElButton } from "element-plus";
import { http, ok, type Application, type Provider } from "../api/client";
import { useAct } from "../composables/load";
import { reachWords } from "../composables/text";

const props = defineProps<{ kind: "applications" | "providers"; object: Application | Provider; readonly?: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const { error, busy, act } = useAct();

async function set(reach: string) {
  await act(async () => {
    const params = { path: { slug: props.object.slug, reach } };
    await (props.kind === "applications" ? ok(http.POST("/applications/{slug}/reach/{reach}", { params })) : ok(http.POST("/providers/{slug}/reach/{reach}", { params })));
    emit("changed");
  });
}
const next: [string, string][] = [["everyone", "Open for everyone"], ["draft", "Back to draft"], ["closed", "Close"]];
</script>

<template>
  <div>
    <p><b>{{ reachWords[object.reach]?.text }}</b>. {{ reachWords[object.reach]?.means }}</p>
    <ul v-if="object.reach === 'draft' && object.missing.length" class="soft"><li v-for="m in object.missing" :key="m">{{ m }}</li></ul>
    <div v-if="!readonly" class="row">
      <template v-for="[reach, text] in next" :key="reach"><ElButton v-if="reach !== object.reach" :type="reach === 'everyone' ? 'primary' : reach === 'closed' ? 'danger' : undefined" :disabled="reach === 'everyone' && object.missing.length > 0" :loading="busy" @click="set(reach)">{{ text }}</ElButton></template>
    </div>
    <p class="soft small">A change acts at once, and is taken back by the other buttons.</p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </div>
</template>
