<script setup lang="ts">
import type { StillUses } from "../api/client";

// What still rests on the provider that is moved away from.
defineProps<{ uses: StillUses }>();
</script>

<template>
  <section class="panel">
    <h2>What still uses {{ uses.provider.name }}</h2>
    <p v-for="w in uses.words" :key="w">{{ w }}</p>
    <ul v-if="uses.apps.length || uses.routes.length || uses.rules.length">
      <li v-for="a in uses.apps" :key="a.slug">
        <RouterLink :to="`/applications/${a.slug}?station=access`">{{ a.name }}</RouterLink>
        <span class="soft small">{{ a.signIns }} sign-ins with it in 30 days, {{ a.others }} other providers</span>
      </li>
      <li v-for="r in [...uses.routes, ...uses.rules]" :key="r">{{ r }}</li>
    </ul>
    <p v-if="uses.closable">
      <RouterLink :to="`/providers/${uses.provider.slug}?station=reach`">Close it</RouterLink>
    </p>
  </section>
</template>
