import { onBeforeUnmount, onMounted, type Ref } from 'vue'

/** Parts of a page that say what they are when they are come to. */
const PARTS = 'section, article, form, nav, header, main'
/** Most calls are done by then, and what began them can be used again. */
const SOON = 300

/**
 * Keeps the keyboard's place. What had the focus may be taken off the page, or be out of use while a
 * call runs: then the focus goes back to it once it can be used again, else to the nearest part of the
 * page around it that is still there. Who left it on purpose is not followed.
 */
export function useFocusKept(root: Readonly<Ref<HTMLElement | null>>) {
  /** What had the focus last, and what was around it, innermost first. */
  let last: HTMLElement | undefined
  let around: HTMLElement[] = []
  /** Where the focus was put in the meantime. */
  let placed: HTMLElement | undefined
  let waits: ReturnType<typeof setTimeout> | undefined
  let observer: MutationObserver | undefined

  const isLost = () => document.activeElement === document.body || !document.activeElement
  const isInUse = (element: HTMLElement) => element.isConnected && !(element as HTMLButtonElement).disabled

  function came(event: FocusEvent) {
    if (event.target === placed) return
    placed = undefined
    last = event.target as HTMLElement
    const all: HTMLElement[] = []
    for (let one = last.parentElement; one && root.value?.contains(one); one = one.parentElement) all.push(one)
    // A dialog lies outside the page: when it goes, what opened it is what is left.
    if (all.length) around = all
  }

  function left(event: FocusEvent) {
    if (event.relatedTarget) return
    // Whether it was left on purpose, or taken off the page or out of use, is known only after this.
    const from = event.target as HTMLElement
    last = undefined
    setTimeout(() => {
      if (last || isInUse(from)) return
      last = from
      changed()
    })
  }

  function changed() {
    if (!last || !(isLost() || document.activeElement === placed)) return
    if (isInUse(last)) return last.focus({ preventScroll: true })
    if (!last.isConnected) return place()
    clearTimeout(waits)
    waits = setTimeout(() => last && isLost() && !isInUse(last) && place(), SOON)
  }

  /** Puts the focus near to where it was; it goes back from there if that can be used again. */
  function place() {
    const near = around.find((one) => one.isConnected && one.matches(PARTS)) ?? root.value?.querySelector('main')
    if (!near || near === document.activeElement) return
    if (!near.hasAttribute('tabindex')) near.setAttribute('tabindex', '-1')
    placed = near
    near.focus({ preventScroll: true })
  }

  onMounted(() => {
    document.addEventListener('focusin', came)
    document.addEventListener('focusout', left)
    observer = new MutationObserver(changed)
    observer.observe(document.body, { childList: true, subtree: true, attributes: true, attributeFilter: ['disabled'] })
  })
  onBeforeUnmount(() => {
    document.removeEventListener('focusin', came)
    document.removeEventListener('focusout', left)
    observer?.disconnect()
    clearTimeout(waits)
  })
}
