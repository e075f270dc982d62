<script setup lang="ts">
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { canAsk } from "./passkeys";
import { useSessionActs, useWays } from "../api/session";
import { vFocus } from "../design/focus";
import Trouble from "../shared/Trouble.vue";

const route = useRoute();
const router = useRouter();
const name = ref("");
const password = ref("");
const code = ref("");
const { data: ways } = useWays();
const elsewhere = computed(() => `/api/v1/provider/begin?then=${encodeURIComponent(String(route.query.then ?? "/"))}`);
const { signIn, proveCode, provePasskey } = useSessionActs();

/** The password was right, and a second factor is to be shown. */
const proving = computed(() => signIn.data.value?.needs === "second factor");
const has = (kind: "code app" | "passkey") => signIn.data.value?.factors?.includes(kind);

async function submit() {
  await signIn.mutateAsync({ name: name.value, password: password.value }).catch(() => {});
  password.value = "";
  if (signIn.isError.value || proving.value) return;
  await go();
}
async function prove(by: () => Promise<unknown>) {
  const done = await by().then(
    () => true,
    () => false,
  );
  code.value = "";
  if (done) await go();
}
function over() {
  signIn.reset();
  proveCode.reset();
  provePasskey.reset();
}
async function go() {
  // Only ever a view of this interface.
  const then = String(route.query.then ?? "/");
  await router.replace(then.startsWith("/") && !then.startsWith("//") ? then : "/");
}
</script>

<template>
  <section class="sheet stack way-in">
    <h1>Sign in</h1>
    <p class="faded">Change a site’s speed settings on staging, see what breaks, promote what is clear.</p>
    <p v-if="ways?.refused" class="none" role="alert">{{ ways.refused }}</p>
    <template v-if="ways?.provider && !proving">
      <Button as="a" :href="elsewhere" :label="`Sign in with ${ways.provider}`" />
      <p class="small faded">Or with a name and password of this server:</p>
    </template>
    <form v-if="!proving" class="stack" @submit.prevent="submit">
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
      <Button type="submit" label="Sign in" :outlined="!!ways?.provider" :loading="signIn.isPending.value" />
    </form>
    <div v-else class="stack">
      <p>Your password is right. Now your second factor.</p>
      <template v-if="has('passkey')">
        <Button
          v-if="canAsk()"
          v-focus
          label="Use a passkey"
          :loading="provePasskey.isPending.value"
          @click="prove(() => provePasskey.mutateAsync())"
        />
        <p v-else class="small faded">This browser does not support passkeys. Use a code.</p>
        <Trouble :error="provePasskey.error.value" />
      </template>
      <form class="stack" @submit.prevent="prove(() => proveCode.mutateAsync(code))">
        <div>
          <label for="code">{{
            has("code app") ? "Code that your app shows now, or a recovery code" : "Recovery code"
          }}</label>
          <InputText
            id="code"
            v-model="code"
            v-focus="!has('passkey') || !canAsk()"
            autocomplete="one-time-code"
            fluid
            required
            :invalid="proveCode.isError.value"
          />
        </div>
        <Trouble :error="proveCode.error.value" />
        <Button type="submit" label="Continue" :outlined="has('passkey')" :loading="proveCode.isPending.value" />
      </form>
      <p class="small faded">Lost them all? An administrator can remove your second factors.</p>
      <div><Button text size="small" label="Sign in as somebody else" @click="over" /></div>
    </div>
    <p v-if="!proving" class="small faded">
      Forgot your password, or no account yet? An administrator can create a link under People; on the server,
      <code>tidemarker invite</code> creates one.
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
