<template>
  <section class="sheet stack">
    <h1>This page does not exist</h1>
    <p>The address may be mistyped, or what it led to is gone.</p>
    <p><RouterLink to="/">Go to the sites</RouterLink></p>
  </section>
</template>
