<script setup lang="ts">
/** What somebody proves themselves with beside a password: code apps, passkeys, recovery codes. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { recoveryCodes as codes, useFactorActs, useFactors } from "./queries";
import { canAsk } from "./passkeys";
import { vFocus } from "../design/focus";
import AskState from "../shared/AskState.vue";
import OnceShown from "../shared/OnceShown.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { useAsking } from "../shared/asking";

const ask = useAsking();
const { data, isPending, error, refetch } = useFactors();
const { beginCodeApp, confirmCodeApp, addPasskey, removeFactor, renewCodes } = useFactorActs();
const name = ref("");
const code = ref("");
const adding = ref(false);
const app = computed(() => (adding.value ? beginCodeApp.data.value : undefined));
const trouble = computed(
  () => beginCodeApp.error.value ?? addPasskey.error.value ?? removeFactor.error.value ?? renewCodes.error.value,
);

async function begin() {
  adding.value = !!(await beginCodeApp.mutateAsync(name.value || "Code app").catch(() => undefined));
}
async function confirm() {
  const done = await confirmCodeApp.mutateAsync({ id: app.value!.id, code: code.value }).catch(() => undefined);
  code.value = "";
  if (done) finished(done.recoveryCodes);
}
async function passkey() {
  const done = await addPasskey.mutateAsync(name.value || "Passkey").catch(() => undefined);
  if (done) finished(done.recoveryCodes);
}
function finished(got: string[]) {
  adding.value = false;
  name.value = "";
  if (got.length) codes.value = got;
}
const askRenew = () =>
  ask({
    title: "Make new recovery codes?",
    says: `The ${data.value?.codes ?? 0} codes that are left stop working.`,
    verb: "Make new ones",
    go: renew,
  });
async function renew() {
  const done = await renewCodes.mutateAsync().catch(() => undefined);
  if (done) finished(done.recoveryCodes);
}
</script>

<template>
  <section class="stack">
    <h2>Second factor</h2>
    <AskState :pending="isPending" :error="error" what="Your second factors" @again="refetch()">
      <template v-if="data">
        <p v-if="data.required && !data.factors.length" class="none">Your role requires one. Add it first.</p>
        <p v-else-if="!data.factors.length" class="small faded">
          None. With one, your password alone is not enough to sign in as you.
        </p>
        <ul v-else class="plain-list">
          <li v-for="f in data.factors" :key="f.id" class="owned">
            <span
              >{{ f.name }} <span class="faded">{{ f.kind }}</span><span class="small faded"
                >since <When :at="f.createdAt" /><template v-if="f.usedAt">, last used <When :at="f.usedAt" /></template
              ></span>
            </span>
            <Button
              text
              size="small"
              label="Remove"
              :aria-label="`Remove ${f.name}`"
              @click="
                ask({
                  title: `Remove ${f.name}?`,
                  says: 'You can no longer sign in with it.',
                  verb: 'Remove it',
                  go: () => removeFactor.mutate(f.id),
                })
              "
            />
          </li>
        </ul>
        <OnceShown
          v-if="codes.length"
          :key="codes[0]"
          :value="codes.join(' ')"
          what="These are your recovery codes, for when you have nothing else. Each works once. Keep them away from this machine; they are not shown again."
        />
        <form v-if="app" class="stack" @submit.prevent="confirm">
          <p class="small">Scan this with the app, or type the text below it. Then enter the code it shows.</p>
          <img :src="app.picture" width="220" height="220" alt="The secret as a QR code; it is below as text" />
          <code class="secret">{{ app.secret }}</code>
          <div>
            <label for="first-code">Code shown by the app</label>
            <InputText
              id="first-code"
              v-model="code"
              v-focus
              inputmode="numeric"
              autocomplete="one-time-code"
              fluid
              required
            />
          </div>
          <Trouble :error="confirmCodeApp.error.value" />
          <div class="row">
            <Button type="submit" size="small" label="Add the app" :loading="confirmCodeApp.isPending.value" />
            <Button text size="small" label="Cancel" @click="adding = false" />
          </div>
        </form>
        <form v-else class="stack" @submit.prevent="begin">
          <div>
            <label for="factor-name">Name</label>
            <InputText
              id="factor-name"
              v-model="name"
              size="small"
              fluid
              maxlength="60"
              placeholder="such as “phone” or “security key”"
            />
          </div>
          <div class="row">
            <Button
              v-if="!data.noPasskeys && canAsk()"
              size="small"
              label="Add a passkey"
              :loading="addPasskey.isPending.value"
              @click="passkey"
            />
            <Button
              type="submit"
              size="small"
              outlined
              label="Add a code app"
              :loading="beginCodeApp.isPending.value"
            />
          </div>
          <p v-if="data.noPasskeys" class="small faded">{{ data.noPasskeys }}</p>
        </form>
        <Trouble :error="trouble" />
        <p v-if="data.factors.length" class="small">
          {{ data.codes }} recovery codes left.
          <Button text size="small" label="Make new ones" :loading="renewCodes.isPending.value" @click="askRenew" />
        </p>
      </template>
    </AskState>
  </section>
</template>

<style scoped>
img {
  border: 1px solid var(--rule);
}
.secret {
  overflow-wrap: anywhere;
}
</style>
