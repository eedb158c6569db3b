<script setup lang="ts">
import { ElButton, ElInput, ElTable, ElTableColumn } from "element-plus";
import { computed, ref } from "vue";
import { http, ok } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import GateNav from "../components/GateNav.vue";
import TimeText from "../components/TimeText.vue";
import { useAct, useLoad } from "../composables/load";

const { data, error, again } = useLoad(() => ok(http.GET("/copies")));
const { error: failed, busy, act } = useAct();
const recipient = ref("");
const make = () =>
  act(async () => {
    await ok(http.POST("/copies"));
    await again();
  });
const name = computed(() => `innergate-${new Date().toISOString().slice(0, 10)}.db${recipient.value ? ".age" : ""}`);
const fetchOne = () =>
  act(async () => {
    const recipients = recipient.value.trim() ? [recipient.value.trim()] : [];
    const file = await ok(http.POST("/copies/fetch", { body: { recipients }, parseAs: "blob" }));
    const link = document.createElement("a");
    link.href = URL.createObjectURL(file as unknown as Blob);
    link.download = name.value;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  });
const size = (octets: number) => `${(octets / (1 << 20)).toFixed(1)} MiB`;
</script>

<template>
  <h1>Copies</h1>
  <p class="sub">
    A copy holds all records as they were at one moment. What is sealed in it stays sealed: it is of use only together
    with the master key, which is kept apart from it.
  </p>
  <GateNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="data">
    <section v-if="!data.folder" class="panel part">
      <h2>The service makes no copies by itself</h2>
      <p>Start it with a folder for them, best on another disk:</p>
      <CopyValue block value="innergate serve --backup-folder /backups" />
    </section>
    <template v-else>
      <div class="head">
        <p>
          In <span class="mono">{{ data.folder }}</span> on the service's machine, one every {{ data.hours }} hours; the
          newest {{ data.keep }} are kept<template v-if="data.encrypted">, encrypted</template>.
        </p>
        <ElButton type="primary" :loading="busy" @click="make">Make one now</ElButton>
      </div>
      <ElTable :data="data.items" row-key="name" empty-text="None was made yet.">
        <ElTableColumn label="Copy" min-width="260">
          <template #default="{ row }">
            <span class="mono">{{ row.name }}</span>
          </template>
        </ElTableColumn>
        <ElTableColumn label="Made" width="220">
          <template #default="{ row }"><TimeText :at="row.made" /></template>
        </ElTableColumn>
        <ElTableColumn label="Size" width="120" align="right">
          <template #default="{ row }">{{ size(row.octets) }}</template>
        </ElTableColumn>
      </ElTable>
    </template>
    <section class="panel part">
      <h2>Fetch a copy to this machine</h2>
      <ElFormItem label="Public key of age to which it is encrypted (age1…)" class="recipient">
        <ElInput v-model="recipient" placeholder="none: only what is sealed is unreadable" clearable />
      </ElFormItem>
      <ElButton :loading="busy" @click="fetchOne">Fetch {{ name }}</ElButton>
    </section>
    <section class="panel part">
      <h2>To come back on another machine</h2>
      <p>Install Inner Gate there, put the master key into the data folder, and bring the copy back:</p>
      <CopyValue block value="innergate restore innergate.db --data /var/lib/innergate" />
    </section>
  </template>
  <p v-if="failed" class="error" role="alert">{{ failed }}</p>
</template>

<style scoped>
.part {
  max-width: 760px;
  margin-top: 20px;
}
.head {
  display: flex;
  gap: 20px;
  align-items: center;
  justify-content: space-between;
}
.recipient {
  max-width: 560px;
}
</style>
