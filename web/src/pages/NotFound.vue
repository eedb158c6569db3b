<template>
  <div class="panel empty">
    <h1>There is nothing at this address</h1>
    <p><RouterLink to="/">Overview</RouterLink></p>
  </div>
</template>
