<script setup lang="ts">
import type { Key, Rollover } from "../api/client";
import CopyValue from "./CopyValue.vue";
import TimeText from "./TimeText.vue";

// The keys of one purpose: the one in use, the next one, and those that are kept.
defineProps<{ roll: Rollover; token: boolean; encryption: boolean }>();
</script>

<template>
  <div class="keys">
    <article
      v-for="[word, k, state] in [
        ['Active', roll.active, 'sound'],
        ['Next', roll.next, 'attention'],
      ] as [string, Key | undefined, string][]"
      v-show="k"
      :key="word"
    >
      <template v-if="k"
        ><h3>
          {{ word }} <span class="tag" :class="state">{{ k.kind }}</span>
        </h3>
        <p class="small">
          {{ k.subject }}<template v-if="k.chain?.length"> under {{ k.chain[0] }}</template>
        </p>
        <p class="small">
          <template v-if="!token">ends <TimeText :at="k.notAfter" /> (<TimeText :at="k.notAfter" from />)</template
          ><template v-if="word === 'Active'"
            ><br />used by {{ k.usedBy }} partner{{ k.usedBy === 1 ? "" : "s"
            }}<template v-if="!encryption"> · last signed <TimeText :at="k.lastUsed" from /></template
          ></template>
        </p>
        <CopyValue :value="k.sha256" label="the SHA-256 fingerprint" />
        <p class="small">
          <a :href="`/api/v1/keys/${k.id}/certificate?form=pem`" download="certificate.pem">PEM</a> ·
          <a :href="`/api/v1/keys/${k.id}/certificate?form=der`" download="certificate.cer">DER</a
          ><template v-if="k.chain?.length">
            · <a :href="`/api/v1/keys/${k.id}/certificate?form=chain`" download="chain.pem">chain</a></template
          >
        </p></template
      >
    </article>
    <article v-for="k in roll.retiring" :key="k.id">
      <h3>
        Retiring <span class="tag">{{ k.kind }}</span>
      </h3>
      <p class="small">ends <TimeText :at="k.notAfter" /></p>
      <CopyValue :value="k.sha256" label="the SHA-256 fingerprint" />
    </article>
  </div>
</template>

<style scoped>
.keys {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 14px 24px;
  border-top: 1px solid var(--hair);
  padding-top: 12px;
  margin-bottom: 12px;
}
.keys p {
  margin: 2px 0;
}
</style>
