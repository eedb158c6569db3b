<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";
import {
  http,
  ok,
  type Application,
  type Circle,
  type Provider,
  type ReachChange,
  type ReachPreview,
} from "../api/client";
import { circleWords, readCircle, writeCircle, type CircleRow } from "../composables/circle";
import { useAct, useLoad } from "../composables/load";
import { reachWords } from "../composables/text";
import ObjectPick from "./ObjectPick.vue";
import TimeText from "./TimeText.vue";

const props = defineProps<{ kind: "applications" | "providers"; object: Application | Provider; readonly?: boolean }>();
const emit = defineEmits<{ changed: [] }>();
const { error, busy, act } = useAct();
const params = () => ({ path: { slug: props.object.slug } });
const apps = computed(() => props.kind === "applications");
const history = useLoad(
  () =>
    apps.value
      ? ok(http.GET("/applications/{slug}/reach", { params: params() }))
      : ok(http.GET("/providers/{slug}/reach", { params: params() })),
  [() => props.object.slug, () => props.object.revision],
);
const newest = computed(() => history.data.value?.items[0]);

const target = ref("");
const preview = ref<ReachPreview | null>(null);
const minutes = ref("");
const endSessions = ref(false);
const circle = ref<CircleRow>(readCircle());
const body = computed<ReachChange>(() => ({
  reach: target.value,
  circle: target.value === "circle" ? (writeCircle(circle.value) as Circle) : undefined,
  minutes: Number(minutes.value) || undefined,
  endSessions: endSessions.value || undefined,
}));
watch(body, () => (preview.value = null));

function choose(reach: string) {
  target.value = reach;
  circle.value = readCircle(props.object.circle ?? undefined);
  minutes.value = "";
  endSessions.value = false;
  if (reach !== "circle") void look();
}
const look = () =>
  act(async () => {
    preview.value = await (apps.value
      ? ok(http.POST("/applications/{slug}/reach-preview", { params: params(), body: body.value }))
      : ok(http.POST("/providers/{slug}/reach-preview", { params: params(), body: body.value })));
  });
const change = () =>
  act(async () => {
    await (apps.value
      ? ok(http.PUT("/applications/{slug}/reach", { params: params(), body: body.value }))
      : ok(http.PUT("/providers/{slug}/reach", { params: params(), body: body.value })));
    target.value = "";
    emit("changed");
    await history.again();
  });
const undo = () =>
  act(async () => {
    await (apps.value
      ? ok(http.POST("/applications/{slug}/reach-undo", { params: params() }))
      : ok(http.POST("/providers/{slug}/reach-undo", { params: params() })));
    emit("changed");
    await history.again();
  });
const next: [string, string][] = [
  ["everyone", "Open for everyone"],
  ["circle", "Open for a circle"],
  ["draft", "Back to draft"],
  ["closed", "Close"],
];
const needs = (reach: string) => ["everyone", "circle"].includes(reach) && props.object.missing.length > 0;
const text = (reach: string) =>
  reach === "circle" && props.object.reach === "circle" ? "Change the circle" : next.find(([r]) => r === reach)![1];
</script>

<template>
  <div>
    <p>
      <b>{{ reachWords[object.reach]?.text }}</b>. {{ reachWords[object.reach]?.means }}
    </p>
    <ul v-if="object.reach === 'circle' && object.circle" class="soft">
      <li v-for="l in circleWords(object.circle)" :key="l">{{ l }}</li>
    </ul>
    <ul v-if="object.reach === 'draft' && object.missing.length" class="soft">
      <li v-for="m in object.missing" :key="m">{{ m }}</li>
    </ul>
    <div v-if="!readonly" class="row">
      <template v-for="[reach] in next" :key="reach">
        <ElButton
          v-if="reach !== object.reach || reach === 'circle'"
          :type="reach === 'everyone' && !target ? 'primary' : undefined"
          :disabled="needs(reach)"
          :aria-pressed="target === reach"
          @click="choose(reach)"
          >{{ text(reach) }}</ElButton
        >
      </template>
    </div>
    <ElForm v-if="target" label-position="top" class="change" @submit.prevent="preview ? change() : look()">
      <template v-if="target === 'circle'">
        <p class="soft">Whoever fits one of these is in, unless an exception fits.</p>
        <div class="two">
          <ElFormItem label="Groups">
            <ElInput v-model="circle.groups" class="mono" spellcheck="false" autocomplete="off" />
            <small>Short names, parted by commas</small>
          </ElFormItem>
          <ElFormItem label="People">
            <ElInput v-model="circle.people" class="mono" spellcheck="false" autocomplete="off" />
            <small>By user name or mail address</small>
          </ElFormItem>
          <ElFormItem label="Networks">
            <ElInput v-model="circle.networks" class="mono" spellcheck="false" autocomplete="off" />
            <small>Such as 10.20.0.0/16</small>
          </ElFormItem>
          <ElFormItem label="But not the groups">
            <ElInput v-model="circle.exceptGroups" class="mono" spellcheck="false" autocomplete="off" />
          </ElFormItem>
          <ElFormItem label="But not the people">
            <ElInput v-model="circle.exceptPeople" class="mono" spellcheck="false" autocomplete="off" />
          </ElFormItem>
          <ElFormItem label="But not the networks">
            <ElInput v-model="circle.exceptNetworks" class="mono" spellcheck="false" autocomplete="off" />
          </ElFormItem>
          <ElFormItem label="Share of all people, in percent">
            <ElInput v-model="circle.share" type="number" autocomplete="off" />
            <small>The same people each time</small>
          </ElFormItem>
          <ElFormItem v-if="!apps" label="Those outside go to">
            <ObjectPick v-model="circle.instead" of="providers" none="a plain page" :except="object.slug" />
            <small>Usually the provider from before.</small>
          </ElFormItem>
        </div>
      </template>
      <div class="two">
        <ElFormItem label="For how many minutes">
          <ElInput v-model="minutes" type="number" autocomplete="off" />
          <small>After that, what was before comes back. Empty: for good.</small>
        </ElFormItem>
        <ElCheckbox v-model="endSessions">End open sessions of those who are outside</ElCheckbox>
      </div>
      <div v-if="preview" class="preview" aria-live="polite">
        <p v-for="l in preview.words" :key="l">{{ l }}</p>
        <template
          v-for="[head, list] in [
            ['Can use it from then on', preview.gain],
            ['Can’t use it any more', preview.lose],
            ['Have no other way', preview.only],
          ] as const"
          :key="head"
          ><details v-if="list.length">
            <summary>{{ head }}: {{ list.length }}</summary>
            <p class="small">{{ list.map((p) => p.name).join(", ") }}</p>
          </details></template
        >
      </div>
      <div class="row">
        <ElButton type="primary" native-type="submit" :loading="busy">{{
          preview ? "Do it now" : "Show whom it touches"
        }}</ElButton>
        <ElButton @click="target = ''">Leave it</ElButton>
      </div>
    </ElForm>
    <p v-else-if="newest" class="soft small">
      {{ newest.by }} changed it from {{ newest.from }} to {{ newest.to }}, <TimeText :at="newest.at" /><template
        v-if="newest.undone"
      >
        (taken back)</template
      ><template v-else-if="newest.until">, until <TimeText :at="newest.until" /></template>.
      <a v-if="!readonly && !newest.undone" href="#" @click.prevent="undo">Take it back</a>
    </p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
  </div>
</template>

<style scoped>
.change {
  margin-top: 12px;
  border-top: 1px solid var(--rule);
  padding-top: 12px;
}
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
  gap: 0 16px;
  align-items: end;
}
.preview {
  border-left: 3px solid var(--sea);
  padding-left: 12px;
  margin-bottom: 12px;
}
.preview p {
  margin: 0 0 4px;
}
summary {
  cursor: pointer;
}
</style>
