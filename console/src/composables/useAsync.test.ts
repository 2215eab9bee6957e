import { describe, expect, it } from 'vitest'
import { useAsync } from './useAsync'

/** A call whose answers come when the test says so. */
function slow() {
  const waiting: { done: (value: string) => void; fail: (error: Error) => void }[] = []
  const call = (_name: string) => new Promise<string>((done, fail) => waiting.push({ done, fail }))
  return { waiting, ...useAsync(call) }
}

describe('useAsync', () => {
  it('never lets a late answer overwrite a newer one', async () => {
    const { waiting, data, busy, run } = slow()
    const first = run('first')
    const second = run('second')
    waiting[1]!.done('second')
    await second
    expect([data.value, busy.value]).toEqual(['second', false])
    waiting[0]!.done('first')
    expect(await first).toBeUndefined()
    expect(data.value).toBe('second')
  })

  it('drops a late error, and keeps the newest', async () => {
    const { waiting, data, error, run } = slow()
    const first = run('first')
    const second = run('second')
    waiting[0]!.fail(new Error('late'))
    await first
    expect(error.value).toBeUndefined()
    waiting[1]!.fail(new Error('newest'))
    await second
    expect([error.value?.message, data.value]).toEqual(['newest', undefined])
  })

  it('forgets what is under way when cleared', async () => {
    const { waiting, data, busy, run, clear } = slow()
    const only = run('only')
    clear()
    waiting[0]!.done('only')
    await only
    expect([data.value, busy.value]).toEqual([undefined, false])
  })
})
