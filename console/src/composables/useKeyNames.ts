import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api } from '../api/calls'

/** What keys are called, for those who may know: changes and drafts tell their numbers. */
export const useKeyNames = defineStore('key-names', () => {
  const names = ref<Record<string, string>>({})
  let asked = false

  async function read() {
    asked = true
    const keys = await api.keys().catch(() => [])
    names.value = Object.fromEntries(keys.map((key) => [key.id, key.name]))
  }
  /** The name, or the number where it is not known. */
  function called(id: string): string {
    if (!asked) void read()
    return names.value[id] ?? id
  }
  return { called, read }
})
