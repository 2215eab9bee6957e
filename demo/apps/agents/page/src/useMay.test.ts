import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { effectScope, nextTick, ref } from 'vue'
import { useMay } from './useMay'

type Listener = () => void

/** A stream whose events the test makes. */
class Stream {
  static open: Stream[] = []
  listeners = new Map<string, Listener>()
  constructor() {
    Stream.open.push(this)
  }
  addEventListener(kind: string, listener: Listener) {
    this.listeners.set(kind, listener)
  }
  close() {
    Stream.open = Stream.open.filter((other) => other !== this)
  }
}

function answers(status: number, ...keys: [string, boolean, boolean, string?][]) {
  const affordances = keys.map(([key, visible, enabled, message]) => ({ key, visible, enabled, message }))
  return new Response(JSON.stringify({ subject: 'user:nils', affordances }), { status })
}

let answer: (url: string) => Promise<Response>
beforeEach(() => {
  Stream.open = []
  vi.useFakeTimers()
  vi.stubGlobal('EventSource', Stream)
  vi.stubGlobal('fetch', (url: string) => answer(url))
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

const settled = () => vi.advanceTimersByTimeAsync(0)

test('what is not known is closed, and what is follows whatever moves', async () => {
  const scope = effectScope()
  answer = async () => answers(200, ['cancel', true, false, 'Not yours'], ['hidden', false, false])
  const may = scope.run(() => useMay(() => 'booking:bk-1'))!
  expect([may.shows('cancel'), may.standing.value]).toEqual([false, 'asking'])
  await settled()
  expect([may.shows('cancel'), may.enables('cancel'), may.why('cancel')]).toEqual([true, false, 'Not yours'])
  expect([may.shows('hidden'), may.why('hidden'), may.shows('none')]).toEqual([false, undefined, false])
  answer = async () => answers(200, ['cancel', true, true])
  Stream.open[0]!.listeners.get('moved')!()
  await settled()
  expect([may.enables('cancel'), may.why('cancel')]).toEqual([true, undefined])
  scope.stop()
  expect(Stream.open).toEqual([])
})

test('without an answer, and signed out, nothing is shown; it asks again by itself', async () => {
  const scope = effectScope()
  answer = async () => answers(200, ['cancel', true, true])
  const may = scope.run(() => useMay())!
  await settled()
  for (const [failing, standing] of [
    [async () => answers(503), 'away'],
    [async () => Promise.reject(new Error('gone')), 'away'],
    [async () => new Response('{"affordances": 7'), 'away'],
    [async () => answers(401), 'signed-out'],
  ] as const) {
    answer = failing
    Stream.open[0]!.listeners.get('moved')!()
    await settled()
    expect([may.standing.value, may.shows('cancel')]).toEqual([standing, false])
    answer = async () => answers(200, ['cancel', true, true])
    if (standing === 'away') await vi.advanceTimersByTimeAsync(2_000)
    else Stream.open[0]!.listeners.get('open')!()
    await settled()
    expect([may.standing.value, may.enables('cancel')]).toEqual(['known', true])
  }
  scope.stop()
})

test('an answer about another thing never counts', async () => {
  const scope = effectScope()
  const on = ref('booking:bk-1')
  const held: ((response: Response) => void)[] = []
  answer = () => new Promise((resolve) => held.push(resolve))
  const may = scope.run(() => useMay(on))!
  on.value = 'booking:bk-2'
  await nextTick()
  held[1]!(answers(200, ['cancel', true, false]))
  await settled()
  held[0]!(answers(200, ['cancel', true, true]))
  await settled()
  expect(may.enables('cancel')).toBe(false)
  scope.stop()
})
