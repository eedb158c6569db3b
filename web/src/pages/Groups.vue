<script setup lang="ts">
import { sure } from "../composables/sure";
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import ListPage from "../components/ListPage.vue";
import PeopleNav from "../components/PeopleNav.vue";
import { useAct } from "../composables/load";
import { useSession } from "../composables/session";

const session = useSession();
const key = ref(0);
const load = (query: Record<string, string>) => ok(http.GET("/groups", { params: { query } }));
const one = ref({ name: "", slug: "", description: "" });
const { error, busy, act } = useAct();
const add = () =>
  act(async () => {
    await ok(http.POST("/groups", { body: { ...one.value, slug: one.value.slug.trim() } }));
    one.value = { name: "", slug: "", description: "" };
    key.value++;
  });
const remove = async (slug: string, name: string, n: number) =>
  (await sure(`Delete the group ${name}? ${n} people leave it.`, "Delete it")) &&
  act(async () => {
    await ok(http.DELETE("/groups/{slug}", { params: { path: { slug } } }));
    key.value++;
  });
</script>

<template>
  <h1>Groups</h1>
  <p class="sub">
    They let rules and assignments name many people at once. Providers give them by their grants, never by themselves.
  </p>
  <PeopleNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <div class="cols">
    <ListPage :key="key" :load="load" search="Search by name">
      <template #default="{ items, sort, order }">
        <ElTable
          table-layout="auto"
          :data="items"
          :default-sort="order"
          row-key="slug"
          class="dense"
          @sort-change="sort"
        >
          <ElTableColumn prop="name" sortable="custom" label="Name">
            <template #default="{ row: g }">
              <b>{{ g.name }}</b>
              <span v-if="g.description" class="soft small second">{{ g.description }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="Short name">
            <template #default="{ row: g }">
              <span class="mono">{{ g.slug }}</span>
            </template>
          </ElTableColumn>
          <ElTableColumn label="People">
            <template #default="{ row: g }">
              <RouterLink :to="`/people?group=${g.slug}`">{{ g.people }}{{ g.more ? " or more" : "" }}</RouterLink>
            </template>
          </ElTableColumn>
          <ElTableColumn>
            <template #header>
              <span class="visually-hidden">Acts</span>
            </template>
            <template #default="{ row: g }">
              <ElButton v-if="session.engineer" size="small" type="danger" @click="remove(g.slug, g.name, g.people)"
                >Delete</ElButton
              >
            </template>
          </ElTableColumn>
        </ElTable>
      </template>
      <template #empty>
        <p>There is no group yet.</p>
      </template>
    </ListPage>
    <ElForm v-if="session.engineer" label-position="top" class="panel" @submit.prevent="add">
      <h2>Add a group</h2>
      <ElFormItem label="Name">
        <ElInput v-model="one.name" autocomplete="off" />
      </ElFormItem>
      <ElFormItem label="Short name">
        <ElInput v-model="one.slug" class="mono" spellcheck="false" autocomplete="off" />
        <small>Rules name the group by it. Empty: made from the name.</small>
      </ElFormItem>
      <ElFormItem label="What it is for">
        <ElInput v-model="one.description" autocomplete="off" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!one.name.trim()">Add</ElButton>
    </ElForm>
  </div>
</template>
