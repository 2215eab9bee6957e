import { flushPromises } from '@vue/test-utils'
import { afterEach, expect, it, vi } from 'vitest'
import { happened } from './happened'

const shown = () => [...document.querySelectorAll('.el-notification')].map((one) => one.textContent)
const undo = () => [...document.querySelectorAll<HTMLButtonElement>('.el-notification button')].at(-1)!

afterEach(() => document.body.replaceChildren())

it('says what happened, and takes it back once', async () => {
  const back = vi.fn(async () => undefined)
  const then = vi.fn()
  happened('inspector of user:ines ended', { back, then })
  await flushPromises()
  expect(shown().join()).toContain('inspector of user:ines ended')
  undo().click()
  await flushPromises()
  expect([back.mock.calls.length, then.mock.calls.length]).toEqual([1, 1])
  expect(shown().join()).toContain('Taken back: inspector of user:ines ended')
})

it('says what could not be taken back, and why; the page is read anew all the same', async () => {
  const then = vi.fn()
  happened('D-1 is discarded', { back: () => Promise.reject(new Error('Somebody else took it back.')), then })
  await flushPromises()
  undo().click()
  await flushPromises()
  expect(shown().join()).toContain('Not taken back: D-1 is discarded')
  expect(shown().join()).toContain('Somebody else took it back.')
  expect(then).toHaveBeenCalledOnce()
})
