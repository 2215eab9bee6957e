import { defineStore, storeToRefs } from 'pinia'
import { shallowRef } from 'vue'
import { api } from '../api/calls'
import type { Model } from '../api/types'

/** What is live, as every page that suggests names needs it; read again when a revision goes live. */
const useStore = defineStore('charter', () => {
  const model = shallowRef<Model>()
  async function read() {
    const found = await api.model().catch(() => undefined)
    if (found) model.value = found
  }
  return { model, read }
})

export function useCharter() {
  const store = useStore()
  return { ...storeToRefs(store), read: store.read }
}
