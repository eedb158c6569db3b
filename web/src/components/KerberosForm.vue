<script setup lang="ts">
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";

defineProps<{ part: "values" | "options" | "matching" }>();
</script>

<template>
  <template v-if="part === 'values'">
    <CommonValues />
    <DraftField
      path="kerberos.realms"
      label="Realms whose people may come"
      as="list"
      placeholder="SALTMERE.EXAMPLE"
      hint="As the tickets write them, in capitals as a rule. The realm that counts is the one in the ticket."
    />
  </template>
  <p v-else-if="part === 'matching'" class="soft">
    People are known by their principal, such as ada@SALTMERE.EXAMPLE. A realm may give a name to somebody else one day:
    match by a value of a directory where that happens.
  </p>
  <template v-else>
    <DraftField
      path="kerberos.hosts"
      label="Names under which browsers know this gate"
      as="list"
      hint="They ask for a ticket to HTTP/NAME. Empty for the host of this gate's address."
    />
    <DraftField
      path="kerberos.clockSkewSeconds"
      label="Seconds by which a clock may be off"
      as="number"
      hint="0 for 120; 300 at most."
    />
  </template>
</template>
