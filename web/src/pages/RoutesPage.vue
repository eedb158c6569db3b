<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref, watch } from "vue";
import { http, ok, type RouteAnswer, type Routes } from "../api/client";
import PeopleNav from "../components/PeopleNav.vue";
import ObjectPick from "../components/ObjectPick.vue";
import { useAct, useLoad } from "../composables/load";
import { blankRoute, readRoutes, routeKinds, routeWords, writeRoutes, type RouteRow } from "../composables/routes";
import { useSession } from "../composables/session";

const session = useSession();
const { data, error, again } = useLoad(() => ok(http.GET("/routes")));
const rows = ref<RouteRow[]>([]);
const field = ref("needed");
const noButtons = ref(false);
watch(
  data,
  (r) => {
    if (!r) return;
    rows.value = readRoutes(r);
    field.value = r.field ?? "needed";
    noButtons.value = !!r.noButtons;
  },
  { immediate: true },
);
const draft = (): Routes =>
  ({ rules: writeRoutes(rows.value), field: field.value, noButtons: noButtons.value || undefined }) as Routes;
const { error: actError, busy, act } = useAct();
const save = () =>
  act(async () => {
    data.value = await ok(http.PUT("/routes", { body: draft() }));
  });
function move(i: number, by: number) {
  const [row] = rows.value.splice(i, 1);
  rows.value.splice(i + by, 0, row!);
}

const q = ref({ application: "", name: "", network: "" });
const answer = ref<RouteAnswer | null>(null);
const { error: askError, busy: asking, act: actAsk } = useAct();
const ask = () =>
  actAsk(async () => {
    answer.value = await ok(
      http.POST("/routes/ask", {
        body: {
          application: q.value.application,
          name: q.value.name || undefined,
          network: q.value.network || undefined,
          routes: session.engineer ? draft() : undefined,
        },
      }),
    );
  });
</script>

<template>
  <h1>Routes</h1>
  <p class="sub">
    By which provider somebody signs in, where an application has several. Asked in their order; the first that fits
    decides. Where none fits, people choose among all that serve the application.
  </p>
  <PeopleNav />
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <div v-if="data" class="cols">
    <ElForm label-position="top" class="panel" @submit.prevent="save">
      <p v-if="!rows.length" class="soft">There is no route yet.</p>
      <ol v-else class="rules">
        <li v-for="(r, i) in rows" :key="i">
          <template v-if="!session.engineer">{{ routeWords(r) }}</template>
          <template v-else>
            <div class="line">
              <ElInput v-model="r.name" :aria-label="`Name of route ${i + 1}`" placeholder="name, for people" />
              <span class="order">
                <ElButton
                  text
                  size="small"
                  :disabled="i === 0"
                  :aria-label="`Move route ${i + 1} up`"
                  @click="move(i, -1)"
                  >↑</ElButton
                >
                <ElButton
                  text
                  size="small"
                  :disabled="i === rows.length - 1"
                  :aria-label="`Move route ${i + 1} down`"
                  @click="move(i, 1)"
                  >↓</ElButton
                >
                <ElButton text size="small" :aria-label="`Take route ${i + 1} away`" @click="rows.splice(i, 1)"
                  >✕</ElButton
                >
              </span>
            </div>
            <div v-for="(c, n) in r.conditions" :key="n" class="line cond">
              <span>{{ n ? "and" : "if" }}</span>
              <ElSelect v-model="c.what" :aria-label="`Condition ${n + 1} of route ${i + 1}`">
                <ElOption v-for="[k, words] in routeKinds" :key="k" :value="k" :label="words" />
              </ElSelect>
              <ElInput v-model="c.text" class="mono" :aria-label="`Value ${n + 1} of route ${i + 1}`" />
              <ElButton
                text
                size="small"
                :aria-label="`Take condition ${n + 1} of route ${i + 1} away`"
                @click="r.conditions.splice(n, 1)"
                >✕</ElButton
              >
            </div>
            <div class="line">
              <ElButton text size="small" @click="r.conditions.push({ what: 'mailDomains', text: '' })"
                >+ condition</ElButton
              >
              <span v-if="!r.conditions.length" class="soft small">everybody</span>
            </div>
            <label class="line"
              ><span>leads to</span>
              <ElInput
                v-model="r.to"
                class="mono"
                :aria-label="`Providers of route ${i + 1}`"
                placeholder="northquay-stevedores"
              />
            </label>
          </template>
        </li>
      </ol>
      <p v-if="session.engineer">
        <ElButton @click="rows.push(blankRoute())">Add a route</ElButton>
      </p>
      <ElFormItem label="The field for a mail address or name is shown">
        <ElSelect v-model="field" :disabled="!session.engineer">
          <ElOption
            v-for="[value, text] in [
              ['needed', 'where a route needs to know who it is'],
              ['always', 'always'],
              ['never', 'never'],
            ]"
            :key="value"
            :value="value"
            :label="text"
          />
        </ElSelect>
      </ElFormItem>
      <ElCheckbox v-model="noButtons" :disabled="!session.engineer"
        ><b>No buttons beside the field</b
        ><small>People must say who they are; nobody sees which providers there are.</small></ElCheckbox
      >
      <div v-if="session.engineer" class="row">
        <ElButton type="primary" native-type="submit" :loading="busy">Save: it acts at once</ElButton>
        <ElButton @click="again()">Leave it as it is held</ElButton>
      </div>
      <p v-if="actError" class="error" role="alert">{{ actError }}</p>
    </ElForm>
    <ElForm v-if="session.engineer" label-position="top" class="panel" @submit.prevent="ask">
      <h2>Where would somebody go?</h2>
      <p class="soft">Asked of what stands here, also before it is saved.</p>
      <ElFormItem label="Application">
        <ObjectPick v-model="q.application" of="applications" />
      </ElFormItem>
      <ElFormItem label="They enter">
        <ElInput v-model="q.name" autocomplete="off" />
        <small>A mail address or name; empty for nothing yet</small>
      </ElFormItem>
      <ElFormItem label="From the network address">
        <ElInput v-model="q.network" class="mono" spellcheck="false" autocomplete="off" />
      </ElFormItem>
      <ElButton native-type="submit" :loading="asking" :disabled="!q.application">Ask</ElButton>
      <div v-if="answer" class="answer" aria-live="polite">
        <p v-if="answer.refused"><b>Nowhere.</b> {{ answer.refused.cause }}</p>
        <p v-else-if="answer.goes">
          <b>To {{ answer.goes }}.</b> {{ answer.by }}
        </p>
        <template v-else-if="answer.page"
          ><p><b>They see a page.</b> {{ answer.by }}</p>
          <div class="seen">
            <b>{{ answer.page.title }}</b><span v-for="b in answer.page.buttons" :key="b" class="way">{{ b }}</span
            ><span v-if="answer.page.field" class="field-like">Mail address or name</span>
          </div></template
        >
        <ul v-if="answer.passed.length" class="small">
          <li v-for="l in answer.passed" :key="l">{{ l }}</li>
        </ul>
      </div>
      <p v-if="askError" class="error" role="alert">{{ askError }}</p>
    </ElForm>
  </div>
</template>

<style scoped>
.rules {
  padding-left: 1.4rem;
}
.rules li {
  padding: 0 0 12px 4px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin-bottom: 6px;
}
.answer {
  border-left: 3px solid var(--sea);
  padding-left: 12px;
  margin-top: 12px;
}
.seen {
  display: grid;
  gap: 6px;
  border: 1px solid var(--rule);
  border-radius: 4px;
  padding: 12px;
  background: var(--paper);
}
.way {
  background: var(--sea);
  color: var(--paper);
  border-radius: 4px;
  padding: 6px 10px;
  text-align: center;
}
.field-like {
  border: 1px solid var(--rule);
  border-radius: 4px;
  padding: 6px 10px;
  color: var(--soft);
}
</style>
