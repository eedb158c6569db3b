<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { http, ok } from "../api/client";
import ListPage from "../components/ListPage.vue";
import PeopleNav from "../components/PeopleNav.vue";
import TextBox from "../components/TextBox.vue";
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
const remove = (slug: string, name: string, n: number) =>
  confirm(`Delete the group ${name}? ${n} people leave it.`) &&
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
      <template #default="{ items }"
        ><table class="list">
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Short name</th>
              <th scope="col">People</th>
              <th scope="col"><span class="visually-hidden">Acts</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="g in items" :key="g.slug">
              <td>
                <b>{{ g.name }}</b
                ><br /><span class="soft small">{{ g.description }}</span>
              </td>
              <td class="mono">{{ g.slug }}</td>
              <td>
                <RouterLink :to="`/people?group=${g.slug}`">{{ g.people }}</RouterLink>
              </td>
              <td>
                <ElButton v-if="session.engineer" size="small" type="danger" @click="remove(g.slug, g.name, g.people)"
                  >Delete</ElButton
                >
              </td>
            </tr>
          </tbody>
        </table></template
      >
      <template #empty><p>There is no group yet.</p></template>
    </ListPage>
    <form v-if="session.engineer" class="panel" @submit.prevent="add">
      <h2>Add a group</h2>
      <TextBox v-model="one.name" label="Name" /><TextBox
        v-model="one.slug"
        label="Short name"
        hint="Rules name the group by it. Empty: made from the name."
        mono
      /><TextBox v-model="one.description" label="What it is for" /><ElButton
        type="primary"
        native-type="submit"
        :loading="busy"
        :disabled="!one.name.trim()"
        >Add</ElButton
      >
    </form>
  </div>
</template>
