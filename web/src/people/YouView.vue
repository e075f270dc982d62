<script setup lang="ts">
import Button from "primevue/button";
import InputNumber from "primevue/inputnumber";
import InputText from "primevue/inputtext";
import { computed, onUnmounted, ref } from "vue";
import { recoveryCodes, useOpenSessions, usePeopleActs, useTokens } from "./queries";
import { roles, useSession, type Role } from "../api/session";
import AskState from "../shared/AskState.vue";
import FactorsPane from "./FactorsPane.vue";
import OnceShown from "../shared/OnceShown.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { browserOf } from "./browsers";
import { useAsking } from "../shared/asking";
import CsvFoot from "../shared/CsvFoot.vue";

const ask = useAsking();
const { session } = useSession();
const { data, isPending, error, refetch } = useTokens();
const { data: sessions, isPending: asking, error: unread, refetch: readSessions } = useOpenSessions();
const { makeToken, revoke, password, endSession } = usePeopleActs();
onUnmounted(() => (recoveryCodes.value = []));
const enrolling = computed(() => session.value?.needs === "enrolment");
const own = computed(() => roles.slice(0, roles.findIndex((r) => r.value === session.value?.role) + 1));
const name = ref("");
const most = ref<Role>("maintainer");
const days = ref<number | null>(90);
const here = location.origin;
const before = ref("");
const after = ref("");

function setPassword() {
  password.mutate(
    { old: before.value, new: after.value },
    {
      onSuccess: () => {
        before.value = "";
        after.value = "";
      },
    },
  );
}
</script>

<template>
  <h1>{{ session?.name }}</h1>
  <p class="faded">
    Your role is {{ session?.role }}, which {{ own.map((r) => r.may.replace(/^also /, "")).join("; ") }}.
  </p>
  <FactorsPane v-if="enrolling" class="alone sheet" />
  <div v-else class="two">
    <section class="stack">
      <h2>Tokens for the command line and other programs</h2>
      <p class="small">
        A program with a token acts in your name. Put it where only that program can read it:
        <code>TIDEMARKER_TOKEN=… tidemarker try --server {{ here }} …</code>
      </p>
      <AskState :pending="isPending" :error="error" what="Your tokens" @again="refetch()">
        <p v-if="!data?.length" class="faded">You have none.</p>
        <table v-else v-listed class="tide">
          <thead>
            <tr>
              <th>Name</th>
              <th>At most</th>
              <th>Last used</th>
              <th>Until</th>
              <th><span class="visually-hidden">Actions</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in data" :key="t.id">
              <td>{{ t.name }}</td>
              <td>{{ t.most }}</td>
              <td><When v-if="t.usedAt" :at="t.usedAt" /><span v-else class="faded">never</span></td>
              <td>
                <template v-if="t.revokedAt">revoked <When :at="t.revokedAt" /></template>
                <When v-else-if="t.expiresAt" :at="t.expiresAt" />
              </td>
              <td>
                <Button
                  v-if="!t.revokedAt"
                  text
                  size="small"
                  label="Revoke"
                  @click="
                    ask({
                      title: `Revoke the token “${t.name}”?`,
                      says: 'Programs that use it are refused at once. A revoked token cannot be restored.',
                      verb: 'Revoke it',
                      go: () => revoke.mutate(t.id),
                    })
                  "
                />
              </td>
            </tr>
          </tbody>
          <CsvFoot />
        </table>
      </AskState>
      <form
        class="row"
        @submit.prevent="makeToken.mutate({ name, most, days: days ?? 90 }, { onSuccess: () => (name = '') })"
      >
        <span class="field"
          ><label for="token">Name</label><InputText id="token" v-model="name" size="small" required maxlength="60"
        /></span>
        <span class="field"
          ><label for="most">With the rights of</label
          ><select id="most" v-model="most">
            <option v-for="r in own" :key="r.value">{{ r.value }}</option>
          </select></span
        >
        <span class="field"
          ><label for="days">Days</label
          ><InputNumber v-model="days" input-id="days" :min="1" :max="730" size="small" input-class="days"
        /></span>
        <Button type="submit" size="small" label="Create a token" :loading="makeToken.isPending.value" />
      </form>
      <Trouble :error="makeToken.error.value ?? revoke.error.value" />
      <OnceShown
        v-if="makeToken.data.value"
        :key="makeToken.data.value.secret"
        :value="makeToken.data.value.secret"
        what="This is the token. Only its hash is stored; it is not shown again."
      />
      <FactorsPane class="factors" />
    </section>
    <div class="stack">
      <section class="sheet stack">
        <h2>Password</h2>
        <form class="stack" @submit.prevent="setPassword">
          <div>
            <label for="old">Current password</label>
            <InputText id="old" v-model="before" type="password" autocomplete="current-password" fluid required />
          </div>
          <div>
            <label for="new">New password</label>
            <InputText
              id="new"
              v-model="after"
              type="password"
              autocomplete="new-password"
              fluid
              required
              minlength="10"
            />
          </div>
          <Trouble :error="password.error.value" />
          <p v-if="password.isSuccess.value" role="status">Password changed. Your other sessions were ended.</p>
          <Button type="submit" label="Set the password" :loading="password.isPending.value" />
        </form>
      </section>
      <section class="stack">
        <h2>Sessions</h2>
        <AskState :pending="asking" :error="unread" what="Your sessions" @again="readSessions()">
          <ul class="plain-list">
            <li v-for="o in sessions" :key="o.key" class="owned">
              <span
                >{{ browserOf(o.browser) }}<span v-if="o.this" class="faded">, this one</span
                ><span class="small faded"
                  >since <When :at="o.began" />, from {{ o.address || "an unknown address" }}</span
                ></span
              >
              <Button v-if="!o.this" text size="small" label="End" @click="endSession.mutate(o.key)" />
            </li>
          </ul>
          <Button
            v-if="(sessions?.length ?? 0) > 1"
            outlined
            size="small"
            label="End all others"
            :loading="endSession.isPending.value"
            @click="endSession.mutate('others')"
          />
          <Trouble :error="endSession.error.value" />
        </AskState>
      </section>
    </div>
  </div>
</template>

<style scoped>
.factors {
  max-width: 34rem;
  margin-top: var(--s4);
}
.alone {
  max-width: 32rem;
  padding: var(--s4);
}
.two {
  display: grid;
  grid-template-columns: 1.8fr 1fr;
  gap: var(--s5);
  margin-top: var(--s4);
  align-items: start;
}
.field {
  display: flex;
  flex-direction: column;
}
.row {
  align-items: end;
}
.field :deep(.days) {
  width: 6rem;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
