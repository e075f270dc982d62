<script setup lang="ts">
/** The head of every view of one site: where you are, and its other views. Until the site's name is known there is no link without a name. */
defineProps<{ site: number; name: string; here?: string }>();
</script>

<template>
  <nav class="head" aria-label="Site">
    <RouterLink to="/" class="small">Sites</RouterLink>
    <template v-if="name">
      <span class="faded" aria-hidden="true">·</span
      ><RouterLink :to="`/sites/${site}`" class="site">{{ name }}</RouterLink>
    </template>
    <template v-if="here">
      <span class="faded" aria-hidden="true">·</span><span>{{ here }}</span>
    </template>
    <span class="grow" />
    <RouterLink :to="`/sites/${site}/changes`" class="small">Records</RouterLink>
    <RouterLink :to="`/sites/${site}/test-plan`" class="small">Test plan</RouterLink>
    <RouterLink :to="`/sites/${site}/settings`" class="small">Settings</RouterLink>
    <RouterLink :to="`/sites/${site}/exclusions`" class="small">Exclusions</RouterLink>
    <RouterLink :to="`/sites/${site}/field`" class="small">Field data</RouterLink>
    <RouterLink :to="`/sites/${site}/calendar`" class="small">Calendar</RouterLink>
    <RouterLink :to="`/sites/${site}/history`" class="small">History</RouterLink>
  </nav>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 2px var(--s2);
  align-items: baseline;
  margin-bottom: var(--s3);
}
/* Each can be touched without its neighbours (WCAG 2.2, 2.5.8). */
.head a {
  display: inline-block;
  min-width: 24px;
  min-height: 24px;
}
.site {
  font-family: var(--chart);
  font-weight: 600;
}
.grow {
  flex: 1;
}
@media print {
  .head a.small {
    display: none;
  }
}
.router-link-exact-active.small {
  text-decoration: none;
  color: var(--ink);
  font-weight: 600;
}
</style>
