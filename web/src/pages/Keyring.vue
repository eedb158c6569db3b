<script setup lang="ts">
import { http, ok } from "../api/client";
import CopyValue from "../components/CopyValue.vue";
import TimeText from "../components/TimeText.vue";
import { useLoad } from "../composables/load";

const { data, error } = useLoad(() => ok(http.GET("/keys")));
const words: Record<string, string> = { "saml-signing": "SAML signing", "saml-encryption": "SAML encryption" };
</script>

<template>
  <h1>Keyring</h1>
  <p class="sub">The gate's own keys. Their private parts are sealed and never shown.</p>
  <p v-if="error" class="error" role="alert">{{ error }}</p>
  <section v-for="k in data?.items ?? []" :key="k.id" class="panel key">
    <div class="head"><h2>{{ words[k.purpose] ?? k.purpose }}</h2><span class="tag sound">{{ k.state }}</span></div>
    <dl><dt>Kind</dt><dd>{{ k.kind }}</dd><dt>Subject</dt><dd>{{ k.subject }}</dd><dt>Good from</dt><dd><TimeText :at="k.notBefore" /></dd><dt>Ends</dt><dd><TimeText :at="k.notAfter" /> <span class="soft">(<TimeText :at="k.notAfter" from />)</span></dd><dt>SHA-256</dt><dd><CopyValue :value="k.sha256" label="the SHA-256 fingerprint" /></dd><dt>SHA-1</dt><dd><CopyValue :value="k.sha1" label="the SHA-1 fingerprint" /></dd></dl>
    <details><summary>Certificate</summary><CopyValue :value="k.pem.trim()" label="the certificate" block /></details>
  </section>
</template>

<style scoped>
.key { margin-bottom: 16px; }
dl { display: grid; grid-template-columns: 120px minmax(0, 1fr); margin: 0; }
dt { color: var(--soft); }
dt, dd { margin: 0; padding: 5px 0; }
summary { cursor: pointer; color: var(--sea); padding: 6px 0; }
</style>
