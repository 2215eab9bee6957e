import { flushPromises, mount } from '@vue/test-utils'
import { ElSegmented } from 'element-plus'
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter, type Router } from 'vue-router'
import AskLine from '../components/AskLine.vue'
import { routes } from '../router'
import TryPage from './TryPage.vue'

interface Sent {
  path: string
  body: Record<string, unknown>
}

let sent: Sent[] = []
let router: Router

/** ines is let in once her clearance is supposed or made five. */
function service() {
  let kept = false
  vi.stubGlobal('fetch', async (path: string, options: RequestInit) => {
    const body = options.body ? (JSON.parse(String(options.body)) as Record<string, unknown>) : {}
    sent.push({ path, body })
    if (path === '/api/v1/facts') kept = true
    if (path !== '/api/v1/ask') return new Response('{"applications":[],"types":[],"roles":[],"context":[],"items":[]}')
    const supposed = (body.suppose as string[]).length
    const allowed = kept || supposed > 0
    const explanation = {
      allowed,
      reason: allowed ? 'role:inspector' : 'condition',
      sentence: allowed ? 'she may' : 'she may not',
      way: [],
      arrivals: [],
      rules: [],
      'also-held': [],
      ignored: [],
    }
    const take = {
      ways: [[{ words: 'user:ines.clearance to be at least 5', fact: 'user:ines.clearance = 5' }]],
      trials: 1,
      exhaustive: true,
    }
    return new Response(
      JSON.stringify({ explanation, supposed, now: '', revision: 1, position: 2, ...(allowed ? {} : { 'would-take': take }) }),
    )
  })
}

beforeEach(() => {
  sent = []
  service()
  router = createRouter({ history: createMemoryHistory(), routes })
})
afterEach(() => vi.unstubAllGlobals())

const asked = () => sent.filter(({ path }) => path === '/api/v1/ask').map(({ body }) => body)

it('asks what the address says, supposes beside it, and makes it so', async () => {
  await router.push('/try?subject=user:ines&permission=manifest:release&resource=manifest:m-204&context=zone=quay')
  const page = mount(TryPage, { global: { plugins: [router] } })
  await flushPromises()
  expect(page.findAll('.verdict').map((verdict) => verdict.text())).toEqual(['Denied'])
  expect(asked()[0]).toEqual({
    subject: 'user:ines',
    permission: 'manifest:release',
    resource: 'manifest:m-204',
    context: { zone: 'quay' },
    suppose: [],
    'would-take': true,
  })

  await page.find('#fact').setValue('user:ines.clearance = 5')
  await page.find('form[aria-label="Beside it"]').trigger('submit')
  await flushPromises()
  expect(page.findAll('.verdict').map((verdict) => verdict.text())).toEqual(['Denied', 'Allowed'])
  expect(asked()[1]?.suppose).toEqual(['user:ines.clearance = 5'])
  expect(sent.some(({ path }) => path === '/api/v1/facts')).toBe(false)

  await page.findAll('form[aria-label="Beside it"] button')[1]!.trigger('click')
  await flushPromises()
  expect(sent.find(({ path }) => path === '/api/v1/facts')?.body).toEqual({ set: ['user:ines.clearance = 5'], remove: [] })
  expect(page.findAll('.verdict').map((verdict) => verdict.text())).toEqual(['Allowed'])
})

it('shows another subject beside the first, what it would take, and keeps the answer as a case', async () => {
  await router.push('/try?subject=user:ines&permission=manifest:release&resource=manifest:m-204')
  const page = mount(TryPage, { global: { plugins: [router] } })
  await flushPromises()
  await page.find('.take button').trigger('click')
  await flushPromises()
  expect(asked()[1]).toMatchObject({ suppose: ['user:ines.clearance = 5'], subject: 'user:ines' })

  page.findComponent(ElSegmented).vm.$emit('update:modelValue', 'subject')
  await flushPromises()
  await page.find('#fact').setValue('user:rui')
  await page.find('form[aria-label="Beside it"]').trigger('submit')
  await flushPromises()
  expect(asked()[2]).toMatchObject({ subject: 'user:rui', suppose: [] })

  await page.find('form[aria-label="Keep as a case"]').trigger('submit')
  await flushPromises()
  expect(sent.find(({ path }) => path === '/api/v1/cases')?.body).toEqual({
    name: 'user:ines may not manifest:release on manifest:m-204',
    subject: 'user:ines',
    permission: 'manifest:release',
    resource: 'manifest:m-204',
    may: false,
    context: {},
  })
})

it('says what is missing instead of asking', async () => {
  await router.push('/try')
  const page = mount(TryPage, { global: { plugins: [router] } })
  await page.findAll('.question input')[0]!.setValue('user:ines')
  await page.find('form.question').trigger('submit')
  await flushPromises()
  expect(page.find('[role=alert]').text()).toContain('Name a permission')
  expect(asked()).toEqual([])
})

it('takes the ask line from a key to an answer', async () => {
  await router.push('/')
  const line = mount(AskLine, { global: { plugins: [router] }, attachTo: document.body })
  window.dispatchEvent(new KeyboardEvent('keydown', { key: '/' }))
  const inputs = line.findAll('input')
  expect(document.activeElement).toBe(inputs[0]!.element)
  await inputs[0]!.setValue('user:ines')
  await line.find('form').trigger('submit')
  expect(line.find('[role=status]').text()).toContain('Name a permission')
  await inputs[1]!.setValue('release')
  await inputs[2]!.setValue('manifest:m-204')
  await line.find('form').trigger('submit')
  await flushPromises()
  expect(router.currentRoute.value.query).toMatchObject({
    subject: 'user:ines',
    permission: 'manifest:release',
    resource: 'manifest:m-204',
  })
  line.unmount()
})
