import { defineStore, storeToRefs } from 'pinia'
import { ref, shallowRef } from 'vue'
import { api } from '../api/calls'
import { isAttended, Refused } from '../api/client'
import type { SignedIn } from '../api/types'
import { forgetAll } from '../support/keeping'

/** How long before its end a session is renewed, in milliseconds. */
const BEFORE = 15 * 60_000
let next: ReturnType<typeof setTimeout> | undefined

const useStore = defineStore('session', () => {
  const who = shallowRef<SignedIn>()
  const known = ref(false)
  /** Whose pages are open: they outlive a lapsed session, and wait hidden for the same key. */
  const own = ref('')

  async function look() {
    try {
      take(await api.signedIn())
    } catch (error) {
      if (!(error instanceof Refused)) throw error
      who.value = undefined
    } finally {
      known.value = true
    }
  }
  async function signIn(key: string) {
    take(await api.signIn(key))
    known.value = true
  }
  async function signOut() {
    await api.signOut()
    forgetAll()
    who.value = undefined
    own.value = ''
  }
  function take(found: SignedIn) {
    who.value = found
    own.value = found.key
    clearTimeout(next)
    const lasts = found.issuer && found.until ? Date.parse(found.until) - Date.now() : 0
    if (lasts > 0) next = setTimeout(renew, Math.max(lasts - BEFORE, lasts / 2))
  }
  /** What the issuer said counts for an hour: it is had anew for as long as somebody is at the page. */
  async function renew() {
    if (!who.value || !isAttended()) return
    const renewed = await api.renewSession().catch(() => undefined)
    if (renewed && who.value) take(renewed.who)
  }
  /** The session lapsed; what is on the pages stays. */
  function forget() {
    who.value = undefined
  }
  return { who, own, known, look, signIn, signOut, forget }
})

/** Who is signed in; the key itself is never kept here. */
export function useSession() {
  const store = useStore()
  const { look, signIn, signOut, forget } = store
  return { ...storeToRefs(store), look, signIn, signOut, forget }
}
