<template>
  <section class="sheet stack">
    <h1>There is no such view</h1>
    <p>The address may be mistyped, or what it named is gone.</p>
    <p><RouterLink to="/">Go to the sites</RouterLink></p>
  </section>
</template>
