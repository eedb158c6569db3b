<script setup lang="ts">
// What a provider may speak for: mail domains, scopes of identifiers, groups.
import DraftField from "./DraftField.vue";
</script>

<template>
  <h3>What it may speak for</h3>
  <p class="soft small">
    Mail addresses, user names, external IDs and groups are taken of it within this alone. What it says beyond is
    dropped, and no application, rule or role sees it.
  </p>
  <div class="trust">
    <DraftField
      path="matching.domains"
      label="Mail domains"
      as="list"
      hint="Subdomains are named one by one. None is none."
    />
    <DraftField
      path="matching.mailUnproven"
      label="Its addresses there count as proven"
      as="check"
      hint="Only where the provider says nothing itself (email_verified) and gives its people their addresses."
    />
    <DraftField
      path="matching.mailElsewhere"
      label="Proven addresses of domains that no other provider speaks for"
      as="check"
      hint="For a provider that anybody can have an account with. Nobody is found by them."
    />
    <DraftField path="matching.scopes" label="Scopes of identifiers (name@scope)" as="list" />
    <DraftField
      path="matching.unscoped"
      label="User names and external IDs without a scope"
      as="check"
      hint="Only for a provider whose names are the gate's own, such as the company's."
    />
    <DraftField
      path="matching.groups"
      label="Values of the attribute groups"
      as="list"
      hint="Each by itself or how it begins: ferry-*. A * alone is any."
    />
  </div>
</template>

<style scoped>
.trust {
  margin-top: 12px;
  padding-left: 14px;
  border-left: 3px solid var(--brass-line);
}
h3 {
  margin: 18px 0 4px;
}
</style>
