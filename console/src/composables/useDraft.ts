import { defineStore, storeToRefs } from 'pinia'
import { computed, markRaw, ref, shallowRef, watch } from 'vue'
import { api } from '../api/calls'
import { Refused } from '../api/client'
import type { Checked, Draft, Edit, File, Grid, Model } from '../api/types'
import { forget, keep, recall, stillHere } from '../support/keeping'
import { useAsync } from './useAsync'

/** How long after a key press a text is checked. */
const PAUSE = 300
/** How often it is said that a draft is open here: the service forgets it after forty seconds. */
const PRESENCE = 15_000

const useStore = defineStore('draft', () => {
  const draft = shallowRef<Draft>()
  const files = shallowRef<File[]>([])
  const saved = shallowRef<File[]>([])
  const busy = ref(false)
  const error = shallowRef<Error>()
  /** What somebody else saved since this text was read. */
  const other = shallowRef<{ draft: Draft; files: File[] }>()
  /** What became of it elsewhere: its text stays here until one says what to do with it. */
  const ended = ref<'discarded' | 'live' | ''>('')
  /** The text before the last change that a form made. */
  const before = shallowRef<File[]>()
  /** What the draft declares; while its text has errors, what it declared before. */
  const model = shallowRef<Model>()
  /** Likewise the roles grid of the type that is looked at. */
  const grid = shallowRef<Grid>()
  /** The resource type whose roles grid is looked at. */
  const sheet = ref('')
  const checked = markRaw(useAsync((text: File[]) => api.check(text, sheet.value || undefined)))
  /** Who else has it open just now. */
  const present = ref<string[]>([])
  let timer: ReturnType<typeof setTimeout> | undefined
  let sign: ReturnType<typeof setInterval> | undefined

  watch(checked.data, (found) => {
    if (found?.model) model.value = found.model
    if (found?.grid) grid.value = found.grid
  })
  const isChanged = computed(() => JSON.stringify(files.value) !== JSON.stringify(saved.value))
  const standing = computed(() => checked.data.value?.standing)
  const errors = computed(() => standing.value?.findings.filter((finding) => finding.severity === 'error').length ?? 0)
  const outline = computed<Checked['outline']>(() => checked.data.value?.outline ?? [])

  function take(found: { draft: Draft; files: File[] }) {
    if (found.draft.id !== draft.value?.id) model.value = grid.value = undefined
    before.value = undefined
    draft.value = found.draft
    files.value = saved.value = found.files
    other.value = undefined
    ended.value = ''
    localStorage.setItem('ostrog-draft', found.draft.id)
    if (sign === undefined) {
      sign = setInterval(() => void beThere(), PRESENCE)
      void beThere()
    }
    void checked.run(found.files)
  }

  /** Says that the draft is open here; hears who else has it open, and what became of it. */
  async function beThere() {
    const own = draft.value
    if (!own || busy.value || ended.value) return
    stillHere(own.id)
    const found = await api.presence(own.id).catch((cause: unknown) => {
      if (cause instanceof Refused && cause.status === 404) void hasEnded(own)
      return undefined
    })
    // Meanwhile it was left or saved, or what was heard is not of this draft any more.
    if (draft.value !== own) return
    // What cannot be heard is not claimed.
    present.value = found?.others ?? []
    if (!found || busy.value) return
    if (found.digest === own.digest || other.value) return
    const theirs = await api.draft(own.id).catch(() => undefined)
    if (!theirs || busy.value || draft.value !== own) return
    // What nobody changed here follows; what somebody did is a choice of theirs.
    if (isChanged.value) other.value = theirs
    else take(theirs)
  }

  async function hasEnded(own: Draft) {
    const gone = await api.discardedDrafts().catch(() => [])
    if (draft.value === own) ended.value = gone.some((one) => one.id === own.id) ? 'discarded' : 'live'
  }

  async function attempt<T>(work: () => Promise<T>): Promise<T | undefined> {
    busy.value = true
    error.value = undefined
    try {
      return await work()
    } catch (cause) {
      error.value = cause instanceof Error ? cause : new Error(String(cause))
      return undefined
    } finally {
      busy.value = false
    }
  }

  async function open(id: string) {
    const found = await attempt(() => api.draft(id))
    if (!found) return false
    take(found)
    const kept = recall(id)
    if (!kept) return true
    files.value = kept.files
    if (kept.from !== found.draft.digest) other.value = found
    void checked.run(kept.files)
    return true
  }

  /** Begins a draft from what is live, or from nothing. */
  async function begin(title: string) {
    const made = await attempt(async () => {
      const live = await api.revision('live').catch((cause: unknown) => {
        if (cause instanceof Refused && cause.status === 404) return { files: [] }
        throw cause
      })
      return api.saveDraft({ title, files: live.files })
    })
    if (made) take(made)
    return made
  }

  function write(path: string, text: string) {
    const rest = files.value.filter((file) => file.path !== path)
    const all = [...rest, { path, text }].sort((a, b) => (a.path < b.path ? -1 : 1))
    before.value = undefined
    set(all)
  }

  function set(all: File[]) {
    files.value = all
    if (draft.value) keep(draft.value.id, { from: draft.value.digest, files: all })
    clearTimeout(timer)
    timer = setTimeout(() => void checked.run(all), PAUSE)
  }

  /** Changes the text by its parts, as forms do; comments and layout stay. */
  async function edit(edits: Edit[]) {
    const was = files.value
    const edited = await attempt(() => api.edit(was, edits))
    // What somebody typed meanwhile is not written over.
    if (!edited || files.value !== was) return false
    before.value = was
    set(edited.files)
    return true
  }

  /** Goes back to the text before the last change by a form. */
  function takeBack() {
    if (before.value) set(before.value)
    before.value = undefined
  }

  /** Looks at the roles grid of a type, as the text has it now. */
  function look(type: string) {
    sheet.value = type
    if (draft.value) void checked.run(files.value)
  }

  async function save() {
    const own = draft.value
    if (!own) return false
    const kept = await attempt(async () => {
      try {
        return await api.saveDraft({ title: own.title, files: files.value, draft: own.id, from: own.digest })
      } catch (cause) {
        if (cause instanceof Refused && cause.status === 412) other.value = await api.draft(own.id)
        if (cause instanceof Refused && cause.status === 404) void hasEnded(own)
        throw cause
      }
    })
    if (!kept) return false
    forget(own.id)
    take(kept)
    return true
  }

  /** Of two texts, this one is to be saved over the other. */
  function overwrite() {
    if (other.value) draft.value = other.value.draft
    other.value = undefined
    return save()
  }

  /** Of two texts, the other one stays. */
  function yieldToOther() {
    if (!other.value) return
    forget(other.value.draft.id)
    take(other.value)
  }

  /** The text of a draft that has ended becomes one of its own. */
  async function saveAnew() {
    const own = draft.value
    if (!own) return
    const made = await attempt(() => api.saveDraft({ title: own.title, files: files.value }))
    if (!made) return
    forget(own.id)
    take(made)
  }

  /** A draft that was discarded elsewhere is under way again, with the text that is here. */
  async function bringBack() {
    const own = draft.value
    if (!own) return
    const found = await attempt(() => api.restoreDraft(own.id))
    if (!found) return
    const mine = files.value
    take(found)
    if (JSON.stringify(mine) !== JSON.stringify(found.files)) set(mine)
  }

  function leave() {
    draft.value = undefined
    files.value = saved.value = []
    error.value = undefined
    other.value = undefined
    ended.value = ''
    before.value = model.value = grid.value = undefined
    clearInterval(sign)
    sign = undefined
    clearTimeout(timer)
    present.value = []
    checked.clear()
    localStorage.removeItem('ostrog-draft')
  }

  /** What was open when the browser was closed. */
  async function resume() {
    const id = localStorage.getItem('ostrog-draft')
    if (!draft.value && id && !(await open(id))) leave()
  }

  const state = { draft, files, busy, error, other, ended, present, before, model, grid, outline, isChanged, standing, errors }
  const actions = { open, begin, write, edit, takeBack, look, save, overwrite, yieldToOther, saveAnew, bringBack, leave, resume }
  return { ...state, ...actions, checked }
})

/** The draft being written: one at a time, the same on every page. What is not saved is kept in this browser. */
export function useDraft() {
  const store = useStore()
  const { open, begin, write, edit, takeBack, look, save, overwrite, yieldToOther, saveAnew, bringBack, leave, resume, checked } = store
  return {
    ...storeToRefs(store),
    open,
    begin,
    write,
    edit,
    takeBack,
    look,
    save,
    overwrite,
    yieldToOther,
    saveAnew,
    bringBack,
    leave,
    resume,
    checked,
  }
}
