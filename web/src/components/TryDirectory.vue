<script setup lang="ts">
import { ElButton, ElInput, ElTable, ElTableColumn } from "element-plus";
import { computed, ref } from "vue";
import { http, ok, type TriedDirectory } from "../api/client";
import { useAct } from "../composables/load";

/** Tries a directory as it is saved, and one person by name, without signing anybody in. */
const props = defineProps<{ slug: string; changed: boolean }>();
const name = ref("");
const got = ref<TriedDirectory | null>(null);
const { error, busy, act } = useAct();
const attempt = () =>
  act(async () => {
    got.value = await ok(
      http.POST("/providers/{slug}/try-directory", {
        params: { path: { slug: props.slug } },
        body: { name: name.value.trim() || undefined },
      }),
    );
  });
const values = computed(() => Object.entries(got.value?.values ?? {}).sort(([a], [b]) => a.localeCompare(b)));
const time = (micros: number) => `${(micros / 1000).toFixed(1)} ms`;
</script>

<template>
  <section class="panel">
    <h3>Try it</h3>
    <p class="soft small">Asks the directory as it is saved. Nobody is signed in, and nothing is changed there.</p>
    <div class="row">
      <ElInput
        v-model="name"
        class="name"
        placeholder="Name of one person, if you want"
        aria-label="Name of one person"
        @keydown.enter="attempt"
      />
      <ElButton type="primary" :loading="busy" @click="attempt">Try it</ElButton>
    </div>
    <p v-if="changed" class="soft small">What you have changed here is not saved yet, and is not tried.</p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <template v-if="got">
      <ul class="steps">
        <li v-for="(s, i) in got.steps" :key="i" :class="{ bad: !s.ok }">
          <span aria-hidden="true">{{ s.ok ? "✓" : "✕" }}</span>
          <span>
            <b>{{ s.text }}</b>
            <small class="mono">{{ s.got }}</small>
          </span>
          <small class="soft">{{ time(s.micros) }}</small>
        </li>
      </ul>
      <p v-if="got.remedy"><b>What to do:</b> {{ got.remedy }}</p>
      <ElTable v-if="values.length" :data="values" size="small">
        <ElTableColumn label="The directory tells" width="200">
          <template #default="{ row }">
            <span class="mono">{{ row[0] }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Values">
          <template #default="{ row }">{{ row[1].join(", ") }}</template>
        </ElTableColumn>
      </ElTable>
      <ElTable v-if="got.made?.length" :data="got.made" size="small" class="made">
        <ElTableColumn label="The mapping makes" width="200">
          <template #default="{ row }">
            <span class="mono">{{ row.name }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Values">
          <template #default="{ row }">{{ row.values.join(", ") }}</template>
        </ElTableColumn>
      </ElTable>
    </template>
  </section>
</template>

<style scoped>
.panel {
  margin-top: 18px;
}
.name {
  width: min(320px, 100%);
}
.steps {
  list-style: none;
  padding: 0;
  margin: 14px 0;
}
.steps li {
  display: grid;
  grid-template-columns: 20px 1fr auto;
  gap: 10px;
  padding: 6px 0;
  border-top: 1px solid var(--rule);
}
.steps small {
  display: block;
  overflow-wrap: anywhere;
}
.steps .bad {
  color: var(--rust);
}
.made {
  margin-top: 14px;
}
</style>
