import { ref, watch, type Ref } from 'vue'

/** Which columns of a table are shown, as chosen in this browser; `initial` until somebody chose. */
export function useColumns(table: Ref<string> | (() => string), initial: string[]) {
  const place = () => `ostrog.columns.${typeof table === 'function' ? table() : table.value}`
  const chosen = ref<string[]>(initial)
  watch(
    place,
    (key) => {
      const kept = localStorage.getItem(key)
      chosen.value = kept === null ? initial : kept.split(' ').filter(Boolean)
    },
    { immediate: true },
  )
  watch(chosen, (now) => localStorage.setItem(place(), now.join(' ')))
  return chosen
}
