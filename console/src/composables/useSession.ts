import { ref } from 'vue'
import { api } from '../api/calls'
import { Refused } from '../api/client'
import type { SignedIn } from '../api/types'

const who = ref<SignedIn>()
const known = ref(false)

/** Who is signed in; the key itself is never kept here. */
export function useSession() {
  async function look() {
    try {
      who.value = await api.signedIn()
    } catch (error) {
      if (!(error instanceof Refused)) throw error
      who.value = undefined
    } finally {
      known.value = true
    }
  }
  async function signIn(key: string) {
    who.value = await api.signIn(key)
    known.value = true
  }
  async function signOut() {
    await api.signOut()
    who.value = undefined
  }
  function forget() {
    who.value = undefined
  }
  return { who, known, look, signIn, signOut, forget }
}
