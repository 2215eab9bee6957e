import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter, RouterView } from 'vue-router'
import { useDraft } from '../composables/useDraft'
import { routes } from '../router'

/** Every page that reads something, where a service is slow, refuses, is gone, or has nothing to tell. */
const PAGES = [
  '/',
  '/describe',
  '/roles/manifest',
  '/roles/of/inspector',
  '/give?at=vessel:kestrel',
  '/give/standby',
  '/give/groups',
  '/give/groups?group=group:night',
  '/give/tenant-roles',
  '/give/beside?by=user:ines&and=user:rui',
  '/refine?on=manifest:m-204',
  '/refine/rules',
  '/refine/confers',
  '/connect',
  '/try?subject=user:ines&permission=manifest:release&resource=manifest:m-204',
  '/rehearse',
  '/rehearse/guarantees',
  '/rehearse/samples',
  '/rollout',
  '/register',
  '/register/of/user:ines',
]
/** What a service says that has a charter and nothing else. */
const model = {
  applications: [],
  types: [],
  others: [],
  roles: [],
  rules: [],
  confers: [],
  separations: [],
  'tenant-clauses': [],
  groups: [],
}
const empty: Record<string, unknown> = {
  model,
  status: { position: 0, entities: 0, grants: 0 },
  asked: { applications: [], unknown: [] },
  entities: { items: [] },
  activations: { items: [] },
  grants: { items: [] },
  'tenant-roles': { items: [] },
  holdings: { items: [], total: 0, from: [] },
  changes: { items: [], next: null },
  rehearsal: { files: [], findings: [], number: 0 },
}

let errors: string[]
beforeEach(() => {
  errors = []
  localStorage.clear()
  vi.spyOn(console, 'warn').mockImplementation((...said: unknown[]) => void errors.push(String(said[0])))
  vi.spyOn(console, 'error').mockImplementation((...said: unknown[]) => void errors.push(String(said[0])))
})
afterEach(() => {
  useDraft().leave()
  vi.unstubAllGlobals()
  vi.restoreAllMocks()
})

async function open(path: string, service: (path: string) => Promise<Response>) {
  vi.stubGlobal('fetch', service)
  const router = createRouter({ history: createMemoryHistory(), routes })
  await router.push(path)
  await router.isReady()
  const page = mount(RouterView, { global: { plugins: [router] }, attachTo: document.body })
  for (let turn = 0; turn < 4; turn += 1) {
    await flushPromises()
    await vi.dynamicImportSettled()
  }
  const text = page.text()
  page.unmount()
  return text
}
const refusal = (detail: string) =>
  new Response(JSON.stringify({ type: 'urn:ostrog:problem:unavailable', title: 'Unavailable', status: 503, detail }), { status: 503 })

describe.each(PAGES)('%s', { timeout: 30_000 }, (path) => {
  it('shows something while it waits', async () => {
    const text = await open(path, () => new Promise(() => {}))
    expect(text.length, text).toBeGreaterThan(12)
    expect(errors).toEqual([])
  })

  it('says why it was refused', async () => {
    const text = await open(path, async () => refusal('The database is not there; start it again.'))
    expect(text).toContain('The database is not there; start it again.')
    expect(errors).toEqual([])
  })

  it('says that the service is gone', async () => {
    const text = await open(path, () => Promise.reject(new TypeError('Failed to fetch')))
    expect(text).toContain('The service cannot be reached. Is it running?')
    expect(errors).toEqual([])
  })

  it('says what to do where there is nothing', async () => {
    const text = await open(path, async (asked) => {
      const [name, more] = asked.replace('/api/v1/', '').split('?')[0]!.split('/')
      if (more !== undefined || name === 'ask') return refusal('There is no such thing.')
      return new Response(JSON.stringify(empty[name!] ?? []), { status: 200 })
    })
    expect(text.length, text).toBeGreaterThan(30)
    expect(errors).toEqual([])
  })
})
