<script setup lang="ts">
import CommonValues from "./CommonValues.vue";
import DraftField from "./DraftField.vue";
</script>

<template>
  <h2>The gate's own people</h2>
  <p class="soft">
    Whoever has a name in the gate's own directory signs in here with a password.
    <RouterLink to="/people">People</RouterLink> get that name on their page, and a link with which they set the
    password.
  </p>
  <CommonValues />
  <DraftField
    path="directory.secondFactor"
    label="Second factor"
    as="choice"
    usual="offered"
    :options="[
      ['offered', 'asked of those who have one'],
      ['required', 'required: who has none sets one up at the next sign-in'],
    ]"
  />
  <DraftField
    path="directory.passkeys"
    label="Passkeys"
    as="choice"
    usual="alone"
    :options="[
      ['alone', 'as the second factor, or alone'],
      ['second', 'as the second factor'],
      ['off', 'no new ones are set up'],
    ]"
    hint="A passkey belongs to this gate's host name. Alone, it stands for name, password and second factor together, and
      the device checks that it is its owner who uses it."
  />
  <DraftField path="directory.help" label="Whom to ask" plain hint="Stands on the sign-in page." />
</template>
