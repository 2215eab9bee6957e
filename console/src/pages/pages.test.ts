import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import AnswerSheet from '../components/AnswerSheet.vue'
import { routes } from '../router'
import RolesPage from './RolesPage.vue'
import TodayPage from './TodayPage.vue'
import type { Asked } from '../api/types'

const router = () => createRouter({ history: createMemoryHistory(), routes })

/** A service that answers from a table, and with a problem for everything else. */
function service(answers: Record<string, unknown>) {
  vi.stubGlobal('fetch', async (path: string) => {
    const found = answers[path.split('?')[0]!]
    const body = found ?? { type: 'urn:ostrog:problem:unavailable', title: '', status: 503, detail: 'No charter is live.' }
    return new Response(JSON.stringify(body), { status: found ? 200 : 503 })
  })
}

afterEach(() => vi.unstubAllGlobals())

it('says what to do when nothing is live', async () => {
  service({})
  const page = mount(TodayPage, { global: { plugins: [router()] } })
  await flushPromises()
  expect(page.text()).toContain('No charter is live.')
})

it('moves through the grid by arrows, and tells the cell', async () => {
  const cells = (first: string) => [
    { how: 'gives', text: `${first} gives berth:view`, through: [], conditions: [] },
    { how: 'when', text: `${first} gives berth:close only when now`, through: [], conditions: ['now'] },
  ]
  const row = (role: string) => ({ role, name: role, description: '', includes: [], cells: cells(role) })
  const column = (action: string) => ({ permission: `berth:${action}`, action, description: '', denies: [], allows: [] })
  service({
    '/api/v1/model': {
      applications: [],
      types: [{ key: 'berth', name: 'Berth', application: 'quay', within: [], actions: [{}] }],
      roles: [],
      context: [],
    },
    '/api/v1/types/berth/grid': {
      kind: 'berth',
      name: 'Berth',
      actions: [column('view'), column('close')],
      roles: [row('warden'), row('master')],
    },
  })
  const plugins = router()
  await plugins.push('/roles')
  const page = mount(RolesPage, { global: { plugins: [plugins] }, attachTo: document.body })
  await flushPromises()
  expect(page.find('aside').text()).toContain('warden gives berth:view')
  await page.find('table').trigger('keydown', { key: 'ArrowDown' })
  await page.find('table').trigger('keydown', { key: 'End' })
  await page.find('table').trigger('keydown', { key: 'ArrowRight' })
  expect(page.find('aside').text()).toContain('master gives berth:close only when now')
  expect(page.findAll('td[tabindex="0"]')).toHaveLength(1)
})

it('tells an answer with its mark, its word, and the bar where the way is shut', async () => {
  const asked: Asked = {
    explanation: {
      allowed: false,
      reason: 'condition',
      sentence: 'inspector holds, but it is late',
      way: [
        { kind: 'subject', name: 'user:ines', shut: false },
        { kind: 'role', name: 'inspector', note: 'it is late', shut: true },
        { kind: 'permission', name: 'manifest:release', shut: false },
      ],
      arrivals: [],
      rules: [],
      'also-held': [],
      ignored: ['context.zon: not declared'],
    },
    supposed: 0,
    now: '',
    revision: 1,
    position: 1,
  }
  const sheet = mount(AnswerSheet, { props: { asked, type: 'manifest', title: 'As it is' }, global: { plugins: [router()] } })
  expect(sheet.find('.verdict').text()).toBe('Denied')
  expect(sheet.find('li.shut').text()).toContain('shut here')
  expect(sheet.find('a[href="/register/of/user:ines"]').exists()).toBe(true)
  expect(sheet.text()).toContain('context.zon: not declared')
})
