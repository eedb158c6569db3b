<script setup lang="ts">
import DraftField from "./DraftField.vue";
import TileList from "./TileList.vue";
</script>

<template>
  <DraftField
    path="signOut"
    label="Signing out there ends"
    as="choice"
    :options="[
      ['', 'everything: the sessions at the gate, its applications and the provider'],
      ['gate', 'the session at the gate and its applications'],
      ['application', 'its own part only'],
    ]"
  />
  <div class="two">
    <DraftField
      path="session.idleMinutes"
      label="Asked anew after minutes unused"
      as="number"
      hint="Empty: as the gate's own limit"
    />
    <DraftField path="session.maxMinutes" label="Asked anew after minutes at most" as="number" />
  </div>
  <TileList />
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(14rem, 1fr));
  gap: 0 16px;
}
</style>
