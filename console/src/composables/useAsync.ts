import { ref, shallowRef } from 'vue'

/**
 * A call with its state. A later run wins: what an earlier one brings after it is dropped.
 */
export function useAsync<Arguments extends unknown[], T>(call: (...args: Arguments) => Promise<T>) {
  const data = shallowRef<T>()
  const error = shallowRef<Error>()
  const busy = ref(false)
  let newest = 0

  async function run(...args: Arguments): Promise<T | undefined> {
    const own = ++newest
    busy.value = true
    error.value = undefined
    try {
      const found = await call(...args)
      if (own === newest) data.value = found
      return own === newest ? found : undefined
    } catch (cause) {
      if (own === newest) {
        error.value = cause instanceof Error ? cause : new Error(String(cause))
        data.value = undefined
      }
      return undefined
    } finally {
      if (own === newest) busy.value = false
    }
  }

  function clear() {
    newest += 1
    data.value = undefined
    error.value = undefined
    busy.value = false
  }

  return { data, error, busy, run, clear }
}
