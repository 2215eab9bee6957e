<script setup lang="ts">
import { onMounted, onUnmounted, ref, useTemplateRef } from 'vue'
import { useRoute } from 'vue-router'
import { api } from '../api/calls'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useSession } from '../composables/useSession'

const session = useSession()
const route = useRoute()
const key = ref('')
const issuers = useAsync(api.signInWith)
const { error, busy, run } = useAsync(async () => {
  await session.signIn(key.value)
  key.value = ''
})
/** Pages that are open wait behind this one: then it is another tab that goes to the issuer and back. */
const waits = () => Boolean(session.own.value)
const look = () => void (waits() && session.look())
const form = useTemplateRef<HTMLElement>('form')
onMounted(issuers.run)
// Whoever signed out by the keyboard goes on here.
onMounted(() => form.value?.focus())
onMounted(() => addEventListener('focus', look))
onUnmounted(() => removeEventListener('focus', look))
const leads = (issuer: string) => `/sign-in/${issuer}?${new URLSearchParams({ to: route.fullPath })}`
</script>

<template>
  <main>
    <form ref="form" class="sheet" tabindex="-1" @submit.prevent="run()">
      <h1>Ostrog</h1>
      <p>Central authorization policy.</p>
      <template v-if="issuers.data.value?.length">
        <ElButton
          v-for="one in issuers.data.value"
          :key="one.issuer"
          tag="a"
          type="primary"
          :href="leads(one.issuer)"
          :target="waits() ? '_blank' : undefined"
          >Sign in with {{ one.issuer }}</ElButton
        >
        <p class="soft">At {{ issuers.data.value.map((one) => one.url).join(', ') }}. Or with a key, as programs do:</p>
      </template>
      <label for="key">Operator's key</label>
      <ElInput id="key" v-model="key" type="password" autocomplete="off" placeholder="ostrog.k-…" />
      <ElButton :type="issuers.data.value?.length ? 'default' : 'primary'" native-type="submit" :loading="busy" :disabled="!key.trim()"
        >Sign in with the key</ElButton
      >
      <FailureNote v-if="error" :error="error" />
      <p class="soft">The first start prints one, once. It is sent to this service only and is not kept in the browser.</p>
    </form>
  </main>
</template>

<style scoped>
main {
  display: grid;
  place-items: center;
  height: 100%;
  padding: 16px;
}
form {
  display: flex;
  flex-direction: column;
  gap: 12px;
  width: min(420px, 100%);
  outline: none;
}
a {
  text-decoration: none;
}
p {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
