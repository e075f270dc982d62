<script setup lang="ts">
/** Where the backup of an environment is that was made before something deletes data there. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import { useSiteActs } from "../site/queries";
import Trouble from "../shared/Trouble.vue";

defineProps<{ environment: number; name: string }>();
const acts = useSiteActs();
const place = ref("");
</script>

<template>
  <form
    class="backup stack"
    @submit.prevent="acts.backup.mutate({ env: environment, place }, { onSuccess: () => (place = '') })"
  >
    <label :for="`backup-${environment}`">Where is the backup of {{ name }} that was made for this?</label>
    <InputText :id="`backup-${environment}`" v-model="place" size="small" required maxlength="500" />
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
