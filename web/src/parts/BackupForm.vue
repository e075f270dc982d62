<script setup lang="ts">
/** Where the backup is that was made before something deletes data, on staging and then on production. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useActs, type Change } from "../api/queries";
import Trouble from "./Trouble.vue";

const props = defineProps<{ change: Change }>();
const acts = useActs();
const place = ref("");
const checked = computed(() => props.change.choices.some((c) => c.event === "tidy"));
const env = computed(() =>
  checked.value
    ? { id: props.change.productionId, name: props.change.production }
    : { id: props.change.stagingId, name: props.change.staging },
);
</script>

<template>
  <form
    class="backup stack"
    @submit.prevent="acts.backup.mutate({ env: env.id, place }, { onSuccess: () => (place = '') })"
  >
    <label for="backup">Where is the backup of {{ env.name }} that was made for this?</label>
    <InputText id="backup" v-model="place" size="small" required maxlength="500" />
    <Trouble :error="acts.backup.error.value" />
    <p v-if="acts.backup.isSuccess.value" role="status" class="small">It is recorded; it counts for a day.</p>
    <div><Button type="submit" size="small" outlined label="Record the backup" /></div>
  </form>
</template>

<style scoped>
.backup {
  border-left: 4px solid var(--unsure);
  padding: var(--s1) 0 var(--s1) var(--s3);
  margin: var(--s2) 0;
}
</style>
