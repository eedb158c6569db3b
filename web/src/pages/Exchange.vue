<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";
import { useRoute } from "vue-router";
import type { ComparedSheet } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import HandoverPanel from "../components/HandoverPanel.vue";
import GiveOurs from "../components/GiveOurs.vue";
import TimeText from "../components/TimeText.vue";
import TwoValues from "../components/TwoValues.vue";
import { useAct, useLoad } from "../composables/load";
import { partnerCalls, type Kind } from "../composables/partner";
import { useSession } from "../composables/session";

const route = useRoute();
const session = useSession();
const slug = String(route.params.slug);
const kind = route.meta.kind as Kind;
const calls = partnerCalls(kind, slug);
const { data: sheet, error, again } = useLoad(() => calls.sheet());
const done = ref("");
const theirs = ref("");
const compared = ref<ComparedSheet | null>(null);
const { error: compareError, busy, act } = useAct();

async function note() {
  if (!session.engineer) return;
  await calls.handedOut();
  await again();
}
async function copy(what: "markdown" | "json") {
  const { markdown, ...rest } = sheet.value!;
  await navigator.clipboard.writeText(what === "markdown" ? markdown : JSON.stringify(rest, null, 2));
  done.value = what;
  setTimeout(() => (done.value = ""), 1500);
  await note();
}
function print() {
  window.print();
  void note();
}
const compare = () => act(async () => void (compared.value = await calls.compare(theirs.value)));
const words: Record<string, string> = { metadata: "metadata, fetched", sheet: "this sheet" };
</script>

<template>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <template v-if="sheet">
    <div class="head">
      <div>
        <h1>{{ sheet.title }}</h1>
        <p class="no-print"><RouterLink :to="`/${kind}/${slug}`">Back to its page</RouterLink></p>
      </div>
      <div class="row no-print">
        <ElButton type="primary" @click="copy('markdown')">{{
          done === "markdown" ? "Copied" : "Copy for a mail"
        }}</ElButton>
        <ElButton @click="copy('json')">{{ done === "json" ? "Copied" : "Copy as JSON" }}</ElButton>
        <ElButton @click="print">Print</ElButton>
      </div>
    </div>
    <div class="cols">
      <section class="panel">
        <template v-if="sheet.steps.length"
          ><h2>Steps</h2>
          <ol>
            <li v-for="s in sheet.steps" :key="s">{{ s }}</li>
          </ol>
          <h2>Values</h2></template
        >
        <GiveOurs :sheet="sheet" />
        <template v-if="sheet.requested"
          ><h2>The attributes as metadata elements</h2>
          <CopyValue :value="sheet.requested.trim()" label="the attributes as metadata elements" block />
        </template>
      </section>
      <div class="stack no-print">
        <HandoverPanel v-if="session.engineer" :kind="kind" :slug="slug" />
        <section v-if="sheet.downloads.length" class="panel">
          <h2>Files</h2>
          <ul class="files">
            <li v-for="d in sheet.downloads" :key="d.name">
              <a :href="d.url" :download="d.file">{{ d.name }}</a> <span class="soft small">{{ d.hint }}</span>
            </li>
          </ul>
        </section>
        <section class="panel">
          <h2>Compare with theirs</h2>
          <ElForm label-position="top" @submit.prevent="compare">
            <ElFormItem label="What their form or file shows">
              <ElInput v-model="theirs" class="mono" spellcheck="false" type="textarea" :rows="5" />
              <small
                >Labels and values as they stand there, or their metadata about us. Each value is held against ours to
                the last character.</small
              >
            </ElFormItem>
            <ElButton native-type="submit" :loading="busy" :disabled="!theirs.trim()">Compare all of it</ElButton>
          </ElForm>
          <p v-if="compareError" class="error" role="alert">{{ compareError }}</p>
          <div v-if="compared" aria-live="polite">
            <p v-if="compared.equal" class="same">✓ Every value that was recognised is equal.</p>
            <template v-for="v in compared.values" :key="v.name + v.theirs"
              ><p class="small" :class="v.difference.equal ? 'same' : 'differs'">
                <b>{{ v.difference.equal ? "✓" : "✕" }} {{ v.name }}</b
                ><template v-if="v.label"> (theirs: {{ v.label }})</template>
              </p>
              <TwoValues v-if="!v.difference.equal" :difference="v.difference" first="ours" second="theirs"
            /></template>
            <p v-if="compared.absent.length" class="soft small">Not in it: {{ compared.absent.join(", ") }}.</p>
          </div>
        </section>
        <section class="panel">
          <h2>Handed out</h2>
          <p v-if="!sheet.handedOut.length" class="soft">
            Nobody has fetched the metadata from its address here, and nothing was copied from this page.
          </p>
          <ul v-else class="files">
            <li v-for="h in sheet.handedOut" :key="h.first + h.what">
              <b>{{ words[h.what] ?? h.what }}</b> <TimeText :at="h.last" from />
              <span class="soft small"
                >{{ h.what === "sheet" ? "by" : "from" }} {{ h.by
                }}<template v-if="h.count > 1">, {{ h.count }} times</template></span
              ><br /><span v-if="h.current" class="tag sound">still holds</span
              ><template v-else
                ><span class="tag attention"
                  >{{ h.differences.length }} value{{ h.differences.length === 1 ? "" : "s" }} changed since</span
                ><span v-for="d in h.differences" :key="d.field + d.before + d.after" class="soft small change"
                  >{{ d.field }}: {{ d.before && d.after ? "changed" : d.after ? "new" : "gone" }}</span
                ></template
              >
            </li>
          </ul>
        </section>
      </div>
    </div>
  </template>
</template>

<style scoped>
.files {
  list-style: none;
  padding: 0;
  margin: 0;
}
.files li {
  padding: 5px 0;
  border-bottom: 1px solid var(--hair);
}
.change {
  display: block;
}
.same {
  color: var(--moss);
  margin: 8px 0 0;
}
.differs {
  color: var(--rust);
  margin: 8px 0 0;
}
ol {
  margin-top: 0;
  padding-left: 22px;
}
h2 + .copy {
  margin-bottom: 8px;
}
</style>
