import { flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import { vi } from 'vitest'
import type { Component } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import { routes } from '../router'

/** What a page sent. */
export interface Sent {
  method: string
  path: string
  body: unknown
}

/** A service that answers from a table, by method and path, refuses everything else, and keeps what it was sent. */
export function service(answers: Record<string, unknown>) {
  const sent: Sent[] = []
  vi.stubGlobal('fetch', async (path: string, options: RequestInit) => {
    const [bare] = path.split('?')
    const text = options.body === undefined ? undefined : String(options.body)
    const isJson = JSON.stringify(options.headers ?? {}).includes('application/json')
    sent.push({ method: options.method!, path, body: text !== undefined && isJson ? JSON.parse(text) : text })
    const found = answers[`${options.method} ${path}`] ?? answers[`${options.method} ${bare}`]
    return new Response(JSON.stringify(found ?? { type: '', title: '', status: 422, detail: `No answer to ${bare}.` }), { status: found ? 200 : 422 })
  })
  return {
    sent,
    written: (method: string, path: string) => sent.filter((one) => one.method === method && one.path.startsWith(path)).map((one) => one.body),
  }
}

export async function open(page: Component, path: string, props = {}): Promise<VueWrapper> {
  const router = createRouter({ history: createMemoryHistory(), routes })
  await router.push(path)
  const wrapper = mount(page, { props, global: { plugins: [router] } })
  await flushPromises()
  return wrapper
}
export const button = (page: VueWrapper, text: string) => page.findAll('button').find((one) => one.text() === text)!
export async function press(page: VueWrapper, text: string) {
  await button(page, text).trigger('click')
  await flushPromises()
}
export async function submit(page: VueWrapper, form: string) {
  await page.find(form).trigger('submit')
  await flushPromises()
}
