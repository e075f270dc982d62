<script setup lang="ts">
/** How was this look made, and where did its time go? */
import { computed } from "vue";
import { longest, parts, total, type Made } from "./made";

const props = defineProps<{ made: Made }>();
const shares = computed(() => parts(props.made.spent));
</script>

<template>
  <details v-if="total(made.spent) > 0 || made.earlier?.length || made.noted?.length" class="made">
    <summary>
      How this look was made<template v-if="total(made.spent) > 0"
        >: {{ (total(made.spent) / 1000).toFixed(2) }} s, most of it {{ longest(made.spent) }}</template
      >
    </summary>
    <table v-if="total(made.spent) > 0" class="small">
      <tbody>
        <tr v-for="p in shares" :key="p.name">
          <th scope="row">{{ p.name }}</th>
          <td class="number">{{ (p.ms / 1000).toFixed(2) }} s</td>
          <td><span class="bar" :style="{ width: `${p.share * 12}rem` }"></span></td>
        </tr>
      </tbody>
    </table>
    <p v-for="n in made.noted" :key="n">{{ n }}</p>
    <template v-for="(a, i) in made.earlier" :key="i">
      <p>Attempt {{ i + 1 }} failed: {{ a.why }}</p>
      <ul v-if="a.console?.length || a.errors?.length || a.requests?.length" class="small">
        <li v-for="e in a.errors" :key="e.message">{{ e.message }}</li>
        <li v-for="c in a.console" :key="c">{{ c }}</li>
        <li v-for="r in a.requests" :key="r.url">
          {{ r.url }}: {{ r.unreachable || r.failed || r.status || "not sent" }}
        </li>
      </ul>
    </template>
    <p v-for="u in made.undecoded" :key="u">The picture {{ u }} could not be decoded.</p>
  </details>
</template>

<style scoped>
.bar {
  display: inline-block;
  height: 0.6rem;
  background: var(--deep);
}
th {
  font-weight: normal;
  text-align: left;
}
.number {
  text-align: right;
  font-variant-numeric: tabular-nums;
  padding: 0 var(--s2);
}
</style>
