<script setup lang="ts">
import Dialog from "primevue/dialog";
import { singleKeys } from "./shortcuts";

const open = defineModel<boolean>({ required: true });
const keys = [
  ["Ctrl K", "search everything"],
  ["t / p / b", "try, promote, roll back the change"],
  ["j / k", "next / previous finding"],
  ["n", "next open finding"],
  ["1 2 3", "side by side, laid over, difference"],
  ["x", "swap before and after"],
  ["+ / − / 0", "zoom in, out, to fit"],
  ["a / A", "accept the finding / its whole cause as expected"],
  ["m", "mask this part of the page"],
  ["e", "exclude something"],
  ["o", "pictures in the whole window"],
  ["/", "search settings"],
  ["u", "undo the last edit of a change"],
  ["?", "this list"],
  ["Esc", "close"],
];
</script>

<template>
  <Dialog v-model:visible="open" modal header="Keyboard shortcuts" :style="{ width: '26rem' }" :draggable="false">
    <p>
      <label><input v-model="singleKeys" type="checkbox" /> Single keys do this</label>
    </p>
    <dl :class="{ off: !singleKeys }">
      <template v-for="[k, what] in keys" :key="k">
        <dt>
          <kbd>{{ k }}</kbd>
        </dt>
        <dd>{{ what }}</dd>
      </template>
    </dl>
  </Dialog>
</template>

<style scoped>
.off {
  opacity: 0.6;
}
dl {
  display: grid;
  grid-template-columns: 7rem 1fr;
  gap: 6px;
  margin: 0;
}
dd {
  margin: 0;
}
kbd {
  font-family: var(--mono);
  border: 1px solid var(--rule-strong);
  padding: 1px 6px;
}
</style>
