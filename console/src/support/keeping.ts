import type { File } from '../api/types'

/** A text that is not saved yet, and the digest of the one it was made from. */
export interface Kept {
  from: string
  files: File[]
}

const place = (id: string) => `ostrog-text-${id}`

/** Keeps a text in this browser, so that a reload or a lapsed sign-in loses nothing. */
export function keep(id: string, kept: Kept) {
  try {
    localStorage.setItem(place(id), JSON.stringify(kept))
  } catch {
    // The browser has no room; the text is still on the page.
  }
}

export function recall(id: string): Kept | undefined {
  try {
    const kept = JSON.parse(localStorage.getItem(place(id)) ?? 'null') as Kept | null
    return kept && typeof kept.from === 'string' && Array.isArray(kept.files) ? kept : undefined
  } catch {
    return undefined
  }
}

export function forget(id: string) {
  localStorage.removeItem(place(id))
}
