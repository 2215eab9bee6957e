import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api } from '../api/calls'

/** What keys and people are called, for those who may know: changes and drafts tell their ids. */
export const useKeyNames = defineStore('key-names', () => {
  const names = ref<Record<string, string>>({})
  let asked = false

  async function read() {
    asked = true
    const [keys, settings] = await Promise.all([api.keys().catch(() => []), api.settings().catch(() => undefined)])
    const people = (settings?.people ?? []).map((person) => [`person:${person.key}`, person.name])
    names.value = Object.fromEntries([...keys.map((key) => [key.id, key.name]), ...people])
  }
  /** The name, or the id where it is not known: of a sign-in whose it is. */
  function called(id: string): string {
    if (!asked) void read()
    return names.value[id] ?? id.replace(/^(person|sign-in):/, '')
  }
  return { called, read }
})
