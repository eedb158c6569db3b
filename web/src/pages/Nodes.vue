<script setup lang="ts">
import { ElButton, ElTable, ElTableColumn, ElTag } from "element-plus";
import { ref } from "vue";
import { http, ok, type NodeKey, type OneNode } from "../api/client";
import FindingList from "../components/FindingList.vue";
import TimeText from "../components/TimeText.vue";
import CopyValue from "../components/CopyValue.vue";
import GateNav from "../components/GateNav.vue";
import { useAct, useLoad } from "../composables/load";
import { useSession } from "../composables/session";
import { sure } from "../composables/sure";

const session = useSession();
const { data, error, again } = useLoad(() => ok(http.GET("/nodes")));
const { error: failed, busy, act } = useAct();
const key = ref<NodeKey | null>(null);
const invite = () => act(async () => void (key.value = await ok(http.POST("/nodes/invitations"))));
const relieve = () =>
  act(async () => {
    if (!(await sure("Another node takes over what this one does for the others. Nobody notices.", "Relieve it")))
      return;
    await ok(http.POST("/nodes/relieve"));
    await again();
  });
const leave = () =>
  act(async () => {
    const text =
      "This node passes on what it does and is none any more. Then stop the service there. To bring it back, it joins anew.";
    if (!(await sure(text, "Leave"))) return;
    await ok(http.POST("/nodes/leave"));
    await again();
  });
const remove = (n: OneNode) =>
  act(async () => {
    const text = `Take ${n.address} out of the nodes for good? To bring the machine back, it has to join anew.`;
    if (!(await sure(text, "Remove it"))) return;
    await ok(http.DELETE("/nodes/{id}", { params: { path: { id: n.id } } }));
    await again();
  });
const roles: Record<string, string> = {
  voter: "keeps the records, and votes",
  "stand-by": "keeps the records",
  spare: "keeps none",
};
</script>

<template>
  <h1>Nodes</h1>
  <p class="sub">
    Machines that keep the gate's records together. As long as most of them run, people sign in, whichever one is lost.
  </p>
  <GateNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <section v-if="data?.alone" class="panel">
    <h2>This gate keeps its records alone</h2>
    <p>
      When this machine fails, nobody signs in until it is back, or a copy is restored on another one. Three machines
      can keep the records together. Make this one the first, on its command line, while the service is stopped:
    </p>
    <CopyValue block value="innergate node begin --address HOST:8424" />
    <p class="hint">It needs the build that can be a node; the handbook tells the way from here to three of them.</p>
  </section>
  <template v-else-if="data">
    <FindingList :findings="data.findings" class="found" />
    <ElTable :data="data.nodes" row-key="id">
      <ElTableColumn label="Address" prop="address" min-width="180" />
      <ElTableColumn label="What it does" min-width="240">
        <template #default="{ row }">
          {{ roles[row.role] ?? row.role }}
          <ElTag v-if="row.leads" type="success" disable-transitions>leads</ElTag>
          <ElTag v-if="row.own" type="info" disable-transitions>answers you now</ElTag>
          <ElTag v-if="!row.answers" type="danger" disable-transitions>does not answer</ElTag>
        </template>
      </ElTableColumn>
      <ElTableColumn label="Version" prop="version" width="90" />
      <ElTableColumn label="Runs since" width="130">
        <template #default="{ row }"><TimeText v-if="row.began" :at="row.began" /></template>
      </ElTableColumn>
      <ElTableColumn label="Certificate ends" width="140">
        <template #default="{ row }"><TimeText v-if="row.ends" :at="row.ends" /></template>
      </ElTableColumn>
      <ElTableColumn v-if="session.owner" label="" width="180" align="right">
        <template #default="{ row }">
          <span class="acts">
            <ElButton v-if="row.own && row.leads" size="small" :loading="busy" @click="relieve">Relieve</ElButton>
            <ElButton v-if="row.own && data.nodes.length > 1" size="small" plain :loading="busy" @click="leave">
              Leave
            </ElButton>
            <ElButton
              v-if="!row.leads && !row.own"
              size="small"
              type="danger"
              plain
              :loading="busy"
              @click="remove(row as OneNode)"
            >
              Remove
            </ElButton>
          </span>
        </template>
      </ElTableColumn>
    </ElTable>
    <p v-if="data.nodes.length < 3" class="hint">
      With {{ data.nodes.length }} of them, none may be lost. With three, any one may.
    </p>
    <section v-if="session.owner" class="panel invite">
      <h2>Another node</h2>
      <p>A key lets one machine join, once, within an hour. The master key goes there by hand.</p>
      <ElButton type="primary" :loading="busy" @click="invite">Make a key</ElButton>
      <template v-if="key">
        <p>On the new machine, before the service is started there; it asks for the key:</p>
        <CopyValue block value="innergate node join --address HOST:8424" />
        <p>The key:</p>
        <CopyValue block :value="key.key" />
      </template>
    </section>
  </template>
  <p v-if="failed" class="error" role="alert">{{ failed }}</p>
</template>

<style scoped>
.panel {
  max-width: 760px;
  margin-top: 20px;
}
.acts {
  display: inline-flex;
  gap: 8px;
}
.acts .el-button {
  margin: 0;
}
.found {
  max-width: 760px;
  margin-bottom: 18px;
}
.el-tag {
  margin-left: 8px;
}
</style>
