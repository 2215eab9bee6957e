import { defineStore } from 'pinia'
import { markRaw } from 'vue'
import { api } from '../api/calls'
import { useAsync } from './useAsync'
import { useCharter } from './useCharter'

/** Changes that come one after the other are looked at once. */
const PAUSE = 250
/** Where no stream can be shared, how often it is looked. */
const BEAT = 10_000
const KINDS = ['register', 'rollout', 'draft', 'review', 'settings', 'shadow', 'case', 'rehearsal', 'key', 'issuer', 'epoch']

const useStore = defineStore('status', () => {
  const shared = markRaw(useAsync(api.status))
  let timer: ReturnType<typeof setTimeout> | undefined
  let beat: ReturnType<typeof setInterval> | undefined
  let channel: BroadcastChannel | undefined
  let ended: AbortController | undefined

  /** Follows the changes, whoever makes them; what is live is read again when it is another. */
  async function follow() {
    stop()
    const own = (ended = new AbortController())
    const now = await shared.run()
    if (!now || own.signal.aborted) return
    // A browser opens few connections to one service: of all tabs one holds the stream, and tells the others.
    if (typeof EventSource === 'undefined' || typeof BroadcastChannel === 'undefined' || !navigator.locks) {
      beat = setInterval(() => void look(), BEAT)
      return
    }
    channel = new BroadcastChannel('ostrog-changes')
    channel.onmessage = heard
    addEventListener('pagehide', stop, { once: true, signal: own.signal })
    const holding = navigator.locks.request('ostrog-changes', { signal: own.signal }, () => hold(now.position, own.signal))
    await holding.catch(() => undefined)
  }

  /** Holds the stream until it is to end. */
  function hold(after: number, signal: AbortSignal): Promise<void> {
    const stream = new EventSource(`/api/v1/changes?brief=true&after=${shared.data.value?.position ?? after}`)
    const tell = () => {
      heard()
      channel?.postMessage('changed')
    }
    for (const kind of KINDS) stream.addEventListener(kind, tell)
    return new Promise((done) =>
      signal.addEventListener('abort', () => {
        stream.close()
        done()
      }),
    )
  }

  function heard() {
    clearTimeout(timer)
    timer = setTimeout(() => void look(), PAUSE)
  }

  async function look() {
    const before = shared.data.value?.revision?.number
    const now = await shared.run()
    if (now && now.revision?.number !== before) void useCharter().read()
  }

  function stop() {
    ended?.abort()
    channel?.close()
    channel = undefined
    clearTimeout(timer)
    clearInterval(beat)
  }
  return { shared, follow, stop }
})

/** What is being looked at; shared by every page, and in step with what others change. */
export function useStatus() {
  const store = useStore()
  return { ...store.shared, follow: store.follow, stop: store.stop }
}
