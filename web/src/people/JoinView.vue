<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, body } from "../api/client";
import { useSessionActs } from "../api/session";
import AskState from "../shared/AskState.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";

const route = useRoute();
const router = useRouter();
// The secret stands behind the #, which browsers send to no server.
const secret = route.hash.slice(1);
const name = ref("");
const password = ref("");
const { join } = useSessionActs();
const { data, isPending, error, refetch } = useQuery({
  queryKey: ["invitation"],
  queryFn: () => body(api.POST("/api/v1/invitations/look", { body: { secret } })),
  retry: false,
  gcTime: 0,
});

async function submit() {
  await join.mutateAsync({ secret, name: name.value, password: password.value }).catch(() => undefined);
  if (join.isSuccess.value) await router.replace("/");
}
</script>

<template>
  <section class="way-in">
    <AskState :pending="isPending" :error="error" what="The invitation" @again="refetch()">
      <div v-if="data" class="sheet stack">
        <h1>{{ data.for ? `A new password for ${data.for}` : "You are invited" }}</h1>
        <p>
          <template v-if="data.for">{{ data.invitedBy }} made this link for you.</template>
          <template v-else>{{ data.invitedBy }} invites you to work here as {{ data.role }}.</template>
          It works once, until <When :at="data.expiresAt" />.
        </p>
        <form class="stack" @submit.prevent="submit">
          <div v-if="!data.for">
            <label for="name">Name to sign in with</label>
            <InputText id="name" v-model="name" autocomplete="username" autofocus fluid required />
          </div>
          <div>
            <label for="password">A password: at least 10 characters, such as three or four words</label>
            <InputText
              id="password"
              v-model="password"
              type="password"
              autocomplete="new-password"
              fluid
              required
              minlength="10"
            />
          </div>
          <Trouble :error="join.error.value" />
          <Button
            type="submit"
            :label="data.for ? 'Set the password' : 'Create account'"
            :loading="join.isPending.value"
            :disabled="password.length < 10"
          />
        </form>
      </div>
    </AskState>
  </section>
</template>

<style scoped>
.way-in {
  max-width: 30rem;
  margin: 6vh auto 0;
}
.sheet {
  padding: var(--s5);
}
</style>
