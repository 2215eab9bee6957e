import { flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import { ElInputNumber, ElSelect, ElTreeSelect } from 'element-plus'
import { vi } from 'vitest'
import type { Component } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import MomentField from '../components/MomentField.vue'
import NamesField from '../components/NamesField.vue'
import PlaceField from '../components/PlaceField.vue'
import AskFirst from '../components/AskFirst.vue'
import TakeAway from '../components/TakeAway.vue'
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
    return new Response(JSON.stringify(found ?? { type: '', title: '', status: 422, detail: `No answer to ${bare}.` }), {
      status: found ? 200 : 422,
    })
  })
  return {
    sent,
    written: (method: string, path: string) =>
      sent.filter((one) => one.method === method && one.path.startsWith(path)).map((one) => one.body),
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

/** Chooses in one of Element Plus's fields: a select, a picker, a number, by the name it has. */
export async function choose(page: VueWrapper, name: string, value: unknown) {
  const fields = [ElSelect, ElTreeSelect, ElInputNumber, NamesField, PlaceField, MomentField].flatMap(
    (kind) => page.findAllComponents(kind as never) as unknown as VueWrapper[],
  )
  const field = fields.find((one) => (one.props() as Record<string, unknown>).name === name)
  if (!field) throw new Error(`no field ${name}`)
  field.vm.$emit('update:modelValue', value)
  field.vm.$emit('change', value)
  await flushPromises()
}
/** Answers what is asked before something is taken away, or done that is hard to take back. */
export async function confirm(page: VueWrapper, answer: string) {
  const asking = page.findAllComponents(AskFirst).find((one) => one.props('answer') === answer && one.props('modelValue'))
  if (!asking) throw new Error(`nobody asks for ${answer}`)
  asking.vm.$emit('confirmed')
  await flushPromises()
}
/** Takes away what a button is named for, and means it. */
export async function takeAway(page: VueWrapper, name: string) {
  const asking = page.findAllComponents(TakeAway).find((one) => one.props('name') === name)
  if (!asking) throw new Error(`nothing takes away ${name}`)
  asking.vm.$emit('confirmed')
  await flushPromises()
}
