<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed } from "vue";
import { http, ok, type PolicyRule } from "../api/client";
import { blankRule, readRules, ruleWords, writeRules } from "../composables/access";
import { useRows } from "../composables/edits";
import { useLoad } from "../composables/load";

defineProps<{ readonly?: boolean }>();
const rules = defineModel<PolicyRule[]>({ required: true });
const rows = useRows(
  () => rules.value,
  () => readRules(rules.value),
  (now) => (rules.value = writeRules(now)),
);
const { data: sets } = useLoad(() => ok(http.GET("/rule-sets")));
const accessSets = computed(() => (sets.value?.items ?? []).filter((s) => s.kind === "access"));
function move(i: number, by: number) {
  const [row] = rows.value.splice(i, 1);
  rows.value.splice(i + by, 0, row!);
}
</script>

<template>
  <h3>Rules</h3>
  <p class="soft">Asked in their order; the first that fits decides. They make the circle smaller, never larger.</p>
  <ol v-if="rows.length" class="rules">
    <li v-for="(r, i) in rows" :key="i">
      <template v-if="readonly">{{ ruleWords(r) }}</template>
      <template v-else>
        <div class="line">
          <ElSelect v-model="r.then" :aria-label="`What rule ${i + 1} does`">
            <ElOption value="allow" label="let in" />
            <ElOption value="refuse" label="refuse" />
            <ElOption value="stronger" label="ask for a second factor" />
            <ElOption value="use" label="rule set" />
          </ElSelect>
          <ElSelect v-if="r.then === 'use'" v-model="r.use" :aria-label="`Rule set of rule ${i + 1}`">
            <ElOption v-for="s in accessSets" :key="s.slug" :value="s.slug" :label="s.name" />
          </ElSelect>
          <template v-else>
            <ElInput v-model="r.name" :aria-label="`Name of rule ${i + 1}`" placeholder="name, for people" />
          </template>
          <span class="order">
            <ElButton text size="small" :disabled="i === 0" :aria-label="`Move rule ${i + 1} up`" @click="move(i, -1)"
              >↑</ElButton
            >
            <ElButton
              text
              size="small"
              :disabled="i === rows.length - 1"
              :aria-label="`Move rule ${i + 1} down`"
              @click="move(i, 1)"
              >↓</ElButton
            >
            <ElButton text size="small" :aria-label="`Take rule ${i + 1} away`" @click="rows.splice(i, 1)">✕</ElButton>
          </span>
        </div>
        <template v-if="r.then !== 'use'">
          <div v-for="(c, n) in r.conditions" :key="n" class="line cond">
            <ElSelect v-model="c.not" :aria-label="`Condition ${n + 1} of rule ${i + 1} holds or not`">
              <ElOption
                v-for="not in [false, true]"
                :key="String(not)"
                :value="not"
                :label="not ? 'unless' : n ? 'and' : 'if'"
              />
            </ElSelect>
            <ElSelect v-model="c.what" :aria-label="`Condition ${n + 1} of rule ${i + 1}`">
              <ElOption value="groups" label="in the group" />
              <ElOption value="types" label="of the type" />
              <ElOption value="providers" label="coming through" />
              <ElOption value="networks" label="on the network" />
              <ElOption value="mailDomains" label="with mail at" />
              <ElOption value="days" label="on the days" />
              <ElOption value="hours" label="between" />
              <ElOption value="strength" label="with the strength" />
            </ElSelect>
            <ElSelect v-if="c.what === 'strength'" v-model="c.text" :aria-label="`Strength of rule ${i + 1}`">
              <ElOption value="one" label="one factor" />
              <ElOption value="two" label="a second factor" />
            </ElSelect>
            <ElInput
              v-else
              v-model="c.text"
              class="mono"
              :aria-label="`Value ${n + 1} of rule ${i + 1}`"
              :placeholder="
                {
                  groups: 'crew, office',
                  types: 'partner',
                  providers: 'northquay-stevedores',
                  networks: '10.20.0.0/16',
                  mailDomains: 'saltmere.example',
                  days: 'sat, sun',
                  hours: '22:00 - 06:00 Europe/London',
                  strength: '',
                }[c.what]
              "
            />
            <ElButton
              text
              size="small"
              :aria-label="`Take condition ${n + 1} of rule ${i + 1} away`"
              @click="r.conditions.splice(n, 1)"
              >✕</ElButton
            >
          </div>
          <ElButton text size="small" @click="r.conditions.push({ not: false, what: 'groups', text: '' })"
            >+ condition</ElButton
          >
          <span v-if="!r.conditions.length" class="soft small"> everybody</span>
        </template>
      </template>
    </li>
  </ol>
  <p v-else class="soft">There is no rule.</p>
  <ElButton v-if="!readonly" size="small" @click="rows.push(blankRule())">Add a rule</ElButton>
</template>

<style scoped>
.rules {
  padding-left: 22px;
  margin: 0 0 10px;
}
.rules li {
  padding: 8px 0;
  border-bottom: 1px solid var(--hair);
}
.line {
  display: flex;
  gap: 6px;
  align-items: center;
  margin-bottom: 4px;
  flex-wrap: wrap;
}
.cond {
  padding-left: 14px;
}
.mono {
  font-family: var(--mono);
}
h3 {
  margin-top: 10px;
}
</style>
