<script setup lang="ts">
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useSessionActs } from "../api/session";
import Trouble from "../parts/Trouble.vue";

const route = useRoute();
const router = useRouter();
const name = ref("");
const password = ref("");
const { signIn } = useSessionActs();

async function submit() {
  await signIn.mutateAsync({ name: name.value, password: password.value }).catch(() => (password.value = ""));
  if (signIn.isError.value) return;
  // Only ever a view of this interface.
  const then = String(route.query.then ?? "/");
  await router.replace(then.startsWith("/") && !then.startsWith("//") ? then : "/");
}
</script>

<template>
  <section class="sheet stack way-in">
    <h1>Sign in</h1>
    <p class="faded">Change a site’s speed settings on staging, see what breaks, promote what is clear.</p>
    <form class="stack" @submit.prevent="submit">
      <div>
        <label for="name">Name</label>
        <InputText id="name" v-model="name" autocomplete="username" autofocus fluid required />
      </div>
      <div>
        <label for="password">Password</label>
        <InputText
          id="password"
          v-model="password"
          type="password"
          autocomplete="current-password"
          fluid
          required
          :invalid="signIn.isError.value"
        />
      </div>
      <Trouble :error="signIn.error.value" />
      <Button type="submit" label="Sign in" :loading="signIn.isPending.value" />
    </form>
    <p class="small faded">
      Forgotten the password, or not in yet? An administrator makes you a link under People; on the server,
      <code>tidemarker invite</code> makes one.
    </p>
  </section>
</template>

<style scoped>
.way-in {
  max-width: 26rem;
  margin: 8vh auto 0;
  padding: var(--s5);
}
</style>
