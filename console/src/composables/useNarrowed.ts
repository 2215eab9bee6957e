import { computed, ref, type Ref } from 'vue'

/** Rows that hold what is typed, whatever the case; all of them while nothing is. */
export function useNarrowed<T>(rows: Ref<readonly T[]> | (() => readonly T[]), textOf: (row: T) => string) {
  const narrow = ref('')
  const all = () => (typeof rows === 'function' ? rows() : rows.value)
  const shown = computed(() => {
    const words = narrow.value.toLowerCase().split(/\s+/).filter(Boolean)
    return words.length ? all().filter((row) => words.every((word) => textOf(row).toLowerCase().includes(word))) : [...all()]
  })
  return { narrow, shown }
}
