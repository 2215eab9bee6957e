// What somebody may do here, for the page to follow: which buttons and menus it shows, which of them can be used, and
// why not. To be copied into other pages; it needs a back end that answers `GET /api/affordances?resource=` and tells at
// `GET /api/moves` (server-sent events) when the answer may be another.
//
//   const may = useMay(() => `booking:${id}`)
//   <el-button v-if="may.shows('cancel-button')" :disabled="!may.enables('cancel-button')">…</el-button>
//   <p v-if="may.why('cancel-button')">{{ may.why('cancel-button') }}</p>
//
// It is closed: until it is known, where the back end does not answer, and for a button that nobody declared, nothing is
// shown. And it is a courtesy only: the back end decides every request again.

import { onScopeDispose, readonly, ref, shallowRef, toValue, watch, type MaybeRefOrGetter } from 'vue'

export interface Affordance {
  key: string
  name: string
  visible: boolean
  enabled: boolean
  /** Judged on whether it may be done somewhere, not on one thing. */
  somewhere: boolean
  /** Of one that is shown and cannot be used: the code, and what a rule says to people. */
  reason?: string
  message?: string
}

/** `asking` at first; `signed-out` where a token does not count any more; `away` without an answer. */
export type Standing = 'asking' | 'known' | 'signed-out' | 'away'

/** What reason codes say to people, where no rule says something itself. */
const WORDS: Record<string, string> = {
  'no-role': 'None of your roles allows it here.',
  condition: 'A condition is not met.',
  undetermined: 'Something that would have to be known is not.',
}

/** How often it is asked while there is no answer, in milliseconds. */
const AGAIN = 2_000

const moves = new Set<() => void>()
let stream: EventSource | undefined

function open() {
  stream = new EventSource('/api/moves')
  for (const kind of ['moved', 'open']) {
    stream.addEventListener(kind, () => moves.forEach((each) => each()))
  }
}

function close() {
  stream?.close()
  stream = undefined
}

// A page that a browser keeps to go back to would keep its connection, of which there are few to one host (over
// HTTP/1.1; so there are to many tabs: serve pages that follow over HTTP/2).
addEventListener('pagehide', close)
addEventListener('pageshow', (event) => {
  if (event.persisted && moves.size > 0 && stream === undefined) open()
})

/** Calls back whenever anything moves, and when the stream is there again: meanwhile anything may have. */
function onMoves(call: () => void): () => void {
  moves.add(call)
  if (stream === undefined) open()
  return () => {
    moves.delete(call)
    if (moves.size === 0) close()
  }
}

export function useMay(resource?: MaybeRefOrGetter<string | undefined>) {
  const all = shallowRef<Affordance[]>([])
  const standing = ref<Standing>('asking')
  const subject = ref<string>()
  const position = ref<string>()
  let asked = 0
  let again: ReturnType<typeof setTimeout> | undefined

  function closed(why: Standing) {
    all.value = []
    subject.value = undefined
    standing.value = why
  }

  async function ask() {
    clearTimeout(again)
    const own = ++asked
    const on = toValue(resource)
    const query = on === undefined ? '' : `?resource=${encodeURIComponent(on)}`
    try {
      const response = await fetch(`/api/affordances${query}`, { cache: 'no-store' })
      // An answer to what was asked before does not count.
      if (own !== asked) return
      if (response.status === 401) return closed('signed-out')
      if (!response.ok) throw new Error(response.statusText)
      const answer: { subject: string | null; position: string | null; affordances: Affordance[] } = await response.json()
      if (own !== asked) return
      all.value = answer.affordances
      subject.value = answer.subject ?? undefined
      position.value = answer.position ?? undefined
      standing.value = 'known'
    } catch {
      if (own !== asked) return
      closed('away')
      again = setTimeout(ask, AGAIN)
    }
  }

  watch(
    () => toValue(resource),
    () => {
      closed('asking')
      void ask()
    },
    { immediate: true },
  )
  const end = onMoves(() => void ask())
  onScopeDispose(() => {
    asked += 1
    clearTimeout(again)
    end()
  })

  const of = (key: string) => all.value.find((one) => one.key === key)
  return {
    standing: readonly(standing),
    /** `user:ines`, if somebody is signed in. */
    subject: readonly(subject),
    /** What the answer is of: what else the page shows may be different once this is. */
    position: readonly(position),
    shows: (key: string) => of(key)?.visible ?? false,
    enables: (key: string) => of(key)?.enabled ?? false,
    /** Why one that is shown cannot be used. */
    why(key: string): string | undefined {
      const one = of(key)
      if (one === undefined || !one.visible || one.enabled) return undefined
      return one.message ?? WORDS[one.reason ?? ''] ?? 'You may not do this here.'
    },
    ask,
  }
}
