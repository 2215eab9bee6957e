<script setup lang="ts">
import { ref } from 'vue'
import FailureNote from '../components/FailureNote.vue'
import { useAsync } from '../composables/useAsync'
import { useSession } from '../composables/useSession'

const session = useSession()
const key = ref('')
const { error, busy, run } = useAsync(async () => {
  await session.signIn(key.value)
  key.value = ''
})
</script>

<template>
  <main>
    <form class="sheet" @submit.prevent="run()">
      <h1>Ostrog</h1>
      <p>Central authorization policy. Sign in with an operator's key.</p>
      <label for="key">Operator's key</label>
      <ElInput id="key" v-model="key" type="password" autocomplete="off" placeholder="ostrog.k-…" />
      <ElButton type="primary" native-type="submit" :loading="busy" :disabled="!key.trim()">Sign in</ElButton>
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
}
p {
  margin: 0;
}
</style>
