import type { File } from '../api/types'

/** A text that is not saved yet, and the digest of the one it was made from. */
export interface Kept {
  from: string
  files: File[]
}
/** Also when its tab was last seen alive, in milliseconds. */
type Placed = Kept & { at: number }

const PREFIX = 'ostrog-text-'
/** After so long a tab that says nothing is taken to be gone. */
const GONE = 60_000

/** Each tab keeps its own text: what one saves is not the other's. */
function tab(): string {
  let own = sessionStorage.getItem('ostrog-tab')
  if (!own) {
    own = crypto.randomUUID()
    sessionStorage.setItem('ostrog-tab', own)
  }
  return own
}
const place = (id: string) => `${PREFIX}${id}-${tab()}`

/** Keeps a text in this browser, so that a reload or a lapsed sign-in loses nothing. */
export function keep(id: string, kept: Kept) {
  try {
    localStorage.setItem(place(id), JSON.stringify({ ...kept, at: Date.now() }))
  } catch {
    // The browser has no room; the text is still on the page.
  }
}

/** Says that this tab still has its text open. */
export function stillHere(id: string) {
  const kept = read(place(id))
  if (kept) keep(id, kept)
}

/** What this tab kept, or what a tab that is gone did. */
export function recall(id: string): Kept | undefined {
  const own = read(place(id))
  if (own) return own
  const others = Object.keys(localStorage).filter((key) => key.startsWith(`${PREFIX}${id}-`))
  for (const key of others) {
    const kept = read(key)
    if (!kept || Date.now() - kept.at < GONE) continue
    localStorage.removeItem(key)
    keep(id, kept)
    return kept
  }
  return undefined
}

export function forget(id: string) {
  localStorage.removeItem(place(id))
}

/** At sign-out nothing of what was written stays in the browser. */
export function forgetAll() {
  for (const key of Object.keys(localStorage)) if (key.startsWith('ostrog-')) localStorage.removeItem(key)
  sessionStorage.removeItem('ostrog-tab')
}

function read(key: string): Placed | undefined {
  try {
    const kept = JSON.parse(localStorage.getItem(key) ?? 'null') as Placed | null
    return kept && typeof kept.from === 'string' && Array.isArray(kept.files) ? kept : undefined
  } catch {
    return undefined
  }
}
