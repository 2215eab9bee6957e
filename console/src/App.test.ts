import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import { api } from './api/calls'
import App from './App.vue'
import { routes } from './router'

/** A service whose sessions can lapse, and which knows two keys. */
let signedIn: string | undefined

beforeEach(() => {
  signedIn = 'k-1'
  vi.stubGlobal('fetch', async (path: string, options: RequestInit) => {
    const answer = (status: number, body: unknown) => new Response(JSON.stringify(body), { status })
    if (path === '/api/v1/session' && options.method === 'POST') {
      signedIn = (JSON.parse(String(options.body)) as { key: string }).key
      return answer(200, { key: signedIn, name: signedIn })
    }
    if (path === '/api/v1/session' && options.method === 'DELETE') {
      signedIn = undefined
      return new Response(null, { status: 204 })
    }
    if (!signedIn) return answer(401, { type: '', title: '', status: 401, detail: 'The session has ended.' })
    if (path === '/api/v1/session') return answer(200, { key: signedIn, name: signedIn })
    return answer(200, { items: [], total: 0, from: [], applications: [], types: [], roles: [], rules: [], unknown: [] })
  })
})
afterEach(() => vi.unstubAllGlobals())

async function open() {
  const router = createRouter({ history: createMemoryHistory(), routes })
  await router.push('/register')
  const app = mount(App, { global: { plugins: [router] }, attachTo: document.body })
  await flushPromises()
  await vi.dynamicImportSettled()
  await flushPromises()
  return app
}

it('keeps what is on a page over a lapsed session, for the same key only', async () => {
  const app = await open()
  await app.find('input[name=containing]').setValue('user:half-wr')
  signedIn = undefined
  await api.status().catch(() => undefined)
  await flushPromises()
  const signIn = async (key: string) => {
    await app.find('#key').setValue(key)
    await app.find('#key').element.closest('form')!.dispatchEvent(new Event('submit'))
    await flushPromises()
  }
  expect(app.find('.frame').isVisible()).toBe(false)
  await signIn('k-1')
  expect(app.find('.frame').isVisible()).toBe(true)
  expect((app.find('input[name=containing]').element as HTMLInputElement).value).toBe('user:half-wr')

  signedIn = undefined
  await api.status().catch(() => undefined)
  await flushPromises()
  await signIn('k-2')
  await flushPromises()
  expect(app.text()).toContain('k-2')
  expect((app.find('input[name=containing]').element as HTMLInputElement).value).toBe('')

  await app.find('header button').trigger('click')
  await flushPromises()
  expect(app.find('.frame').exists()).toBe(false)
  app.unmount()
})
