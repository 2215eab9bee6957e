import { expect, it } from 'vitest'
import { ref } from 'vue'
import { useGridFocus } from './useGridFocus'
import { useNarrowed } from './useNarrowed'

it('narrows to rows that hold every word, in any order and case, and follows the rows', () => {
  const rows = ref(['Pilot of user:ines', 'pilot of user:rui', 'deckhand of user:ines'])
  const { narrow, shown } = useNarrowed(rows, (row) => row)
  expect(shown.value).toHaveLength(3)
  narrow.value = ' INES  pilot '
  expect(shown.value).toEqual(['Pilot of user:ines'])
  rows.value = [...rows.value, 'chief pilot of user:ines']
  expect(shown.value).toHaveLength(2)
})

it('keeps the focus on a role and an action when rows sort themselves anew', () => {
  const rows = ref(['auditor', 'clerk', 'inspector'])
  const columns = ref(['view', 'release'])
  const focus = useGridFocus(
    ref(),
    () => rows.value,
    () => columns.value,
  )
  focus.set(1, 1)
  expect([focus.rowName.value, focus.columnName.value]).toEqual(['clerk', 'release'])
  // It gives more now, and comes last; its cursor comes along.
  rows.value = ['auditor', 'inspector', 'clerk']
  expect([focus.row.value, focus.rowName.value]).toEqual([2, 'clerk'])
  const key = (name: string) => focus.onKey(new KeyboardEvent('keydown', { key: name }))
  key('ArrowUp')
  expect(focus.rowName.value).toBe('inspector')
  key('Home')
  expect(focus.columnName.value).toBe('view')
  key('ArrowUp')
  key('ArrowUp')
  key('ArrowUp')
  expect(focus.row.value, 'it ends where the grid does').toBe(0)
  key('x')
  expect(focus.rowName.value).toBe('auditor')
  // A role that is gone leaves the cursor at the first.
  rows.value = ['inspector']
  expect(focus.row.value).toBe(0)
})
