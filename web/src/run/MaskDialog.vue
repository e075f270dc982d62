<script setup lang="ts">
/** Letting the part of a page that a finding is about differ from now on. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { ref, watch } from "vue";
import { useRunActs, type Finding } from "./queries";
import { selectorOf } from "./decisions";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ finding: Finding }>();
const open = defineModel<boolean>({ required: true });
const { mask: act } = useRunActs();
const selector = ref("");
const everywhere = ref(false);
const why = ref("");
watch(open, (o) => {
  if (!o) return;
  selector.value = selectorOf(props.finding);
  everywhere.value = false;
  why.value = "";
});
async function mask() {
  await act.mutateAsync({
    finding: props.finding.id,
    selector: selector.value,
    everywhere: everywhere.value,
    why: why.value,
  });
  open.value = false;
}
</script>

<template>
  <Dialog v-model:visible="open" modal header="Mask this part" :style="{ width: '32rem' }" :draggable="false">
    <form class="stack" @submit.prevent="mask">
      <p class="small faded">
        From the next run on, checks ignore how it looks and what it says. Everything else on the page still counts.
      </p>
      <label for="mask-selector">Which part, as a CSS selector</label>
      <InputText id="mask-selector" v-model="selector" class="mono" required autofocus />
      <label class="row"
        ><input v-model="everywhere" type="checkbox" /> On every page, not only {{ finding.page }}</label
      >
      <label for="mask-why">Why may it differ? It is recorded.</label>
      <Textarea id="mask-why" v-model="why" rows="2" required />
      <Trouble :error="act.error.value" />
      <Button
        type="submit"
        label="Mask it"
        :disabled="!why.trim() || !selector.trim()"
        :loading="act.isPending.value"
      />
    </form>
  </Dialog>
</template>
