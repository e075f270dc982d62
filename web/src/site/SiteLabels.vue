<script setup lang="ts">
/** What a site is listed under, with others. */
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import { api, body } from "../api/client";
import { useSession } from "../api/session";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ site: number; labels: string[] }>();
const { may } = useSession();
const editing = ref(false);
const text = ref("");
function edit() {
  text.value = props.labels.join(", ");
  editing.value = true;
}
const client = useQueryClient();
const keep = useMutation({
  mutationFn: () =>
    body(
      api.PUT("/api/v1/sites/{id}/labels", {
        params: { path: { id: props.site } },
        body: {
          labels: [
            ...new Set(
              text.value
                .split(",")
                .map((l) => l.trim())
                .filter(Boolean),
            ),
          ],
        },
      }),
    ),
  onSuccess: async () => {
    editing.value = false;
    await Promise.all([
      client.invalidateQueries({ queryKey: ["site"] }),
      client.invalidateQueries({ queryKey: ["sites"] }),
    ]);
  },
});
</script>

<template>
  <form v-if="editing" class="row" @submit.prevent="keep.mutate()">
    <label for="site-labels" class="small">Labels, with commas between them</label>
    <InputText id="site-labels" v-model="text" v-focus size="small" class="wide" />
    <Button type="submit" size="small" label="Save" :loading="keep.isPending.value" />
    <Button size="small" text label="Cancel" @click="editing = false" />
    <Trouble :error="keep.error.value" />
  </form>
  <p v-else-if="labels.length || may('work')" class="row small">
    <RouterLink v-for="l in labels" :key="l" :to="{ path: '/', query: { label: l } }">{{ l }}</RouterLink>
    <Button v-if="may('work')" size="small" text :label="labels.length ? 'Edit labels' : 'Add a label'" @click="edit" />
  </p>
</template>

<style scoped>
.wide {
  flex: 1;
  min-width: 12rem;
}
</style>
