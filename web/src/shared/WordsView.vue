<script setup lang="ts">
/** All words that have one sense here, on one page. */
import { words, type Word } from "./words";

const all: [string, Word][] = Object.entries(words);
const idOf = (key: string) => key.replace(" ", "-");
const lists = [
  { title: "Our own words", of: all.filter(([, w]) => w.ours) },
  { title: "Words of the trade, as used here", of: all.filter(([, w]) => !w.ours) },
];
</script>

<template>
  <h1>Words</h1>
  <section v-for="l in lists" :key="l.title" class="later">
    <h2>{{ l.title }}</h2>
    <dl>
      <template v-for="[key, w] in l.of" :key="key">
        <dt :id="idOf(key)" :class="{ here: $route.hash === `#${idOf(key)}` }">{{ w.word }}</dt>
        <dd>{{ w.means }}</dd>
      </template>
    </dl>
  </section>
</template>

<style scoped>
.later {
  margin-top: var(--s4);
}
dl {
  display: grid;
  grid-template-columns: minmax(8rem, 14rem) minmax(0, 44rem);
  gap: var(--s2) var(--s4);
}
dt {
  font-family: var(--chart);
  font-weight: 600;
  scroll-margin-top: var(--s5);
}
dt.here {
  border-left: 4px solid var(--deep);
  padding-left: var(--s2);
}
dd {
  margin: 0;
}
@media (max-width: 600px) {
  dl {
    grid-template-columns: 1fr;
  }
}
</style>
