<script setup lang="ts">
/** How a step-up is to go: when it may begin something, and how much it may look. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import { useChangeActs } from "./queries";
import Trouble from "../shared/Trouble.vue";
import TermHint from "../shared/TermHint.vue";

const props = defineProps<{ site: number }>();
const emit = defineEmits<{ begun: [change: number] }>();
const acts = useChangeActs();
const wish = ref({ from: "", to: "", zone: Intl.DateTimeFormat().resolvedOptions().timeZone, looks: "" });
async function begin() {
  const c = await acts.stepUp.mutateAsync({
    site: props.site,
    from: wish.value.from,
    to: wish.value.from && wish.value.to, // without a beginning there is no window
    zone: wish.value.zone,
    mostLooks: Number(wish.value.looks) || 0,
  });
  emit("begun", c.id);
}
</script>

<template>
  <form class="stack" @submit.prevent="begin">
    <p>
      Tries one <TermHint of="bundle">bundle</TermHint> after the other on staging, from cautious to bold. When one
      breaks something, the setting is found and excluded or left out. You get one checked change that can be promoted.
    </p>
    <div class="row">
      <label for="step-up-from">Between</label>
      <InputText id="step-up-from" v-model="wish.from" placeholder="any time" size="small" class="clock" />
      <label for="step-up-to">and</label>
      <InputText
        id="step-up-to"
        v-model="wish.to"
        placeholder="05:00"
        size="small"
        class="clock"
        :disabled="!wish.from"
      />
      <label for="step-up-zone">in</label>
      <InputText id="step-up-zone" v-model="wish.zone" size="small" :disabled="!wish.from" />
    </div>
    <p class="small faded">Nothing starts at other times; what is running is finished.</p>
    <div class="row">
      <label for="step-up-looks">Looks at most</label>
      <InputText
        id="step-up-looks"
        v-model="wish.looks"
        inputmode="numeric"
        pattern="[0-9]*"
        placeholder="no limit"
        size="small"
      />
    </div>
    <Trouble :error="acts.stepUp.error.value" />
    <Button type="submit" label="Start" :loading="acts.stepUp.isPending.value" />
  </form>
</template>

<style scoped>
.clock {
  width: 5rem;
}
</style>
