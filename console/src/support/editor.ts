import { autocompletion, completionKeymap, type Completion, type CompletionContext } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language'
import { toml } from '@codemirror/legacy-modes/mode/toml'
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { highlightSelectionMatches, search, searchKeymap } from '@codemirror/search'
import { EditorState, type Extension } from '@codemirror/state'
import {
  Decoration,
  EditorView,
  MatchDecorator,
  ViewPlugin,
  hoverTooltip,
  keymap,
  lineNumbers,
  type DecorationSet,
  type ViewUpdate,
} from '@codemirror/view'
import { tags } from '@lezer/highlight'
import type { Defined, Finding } from '../api/types'

/** What the editor asks of the page around it. */
export interface Around {
  path: () => string
  outline: () => Defined[]
  onChange: (text: string) => void
  onGoTo: (defined: Defined) => void
  onSave: () => void
  /** The table that the cursor is in now, by the parts of its name. */
  onTable?: (table: string[]) => void
}

const WORDS = ['and', 'or', 'not', 'in', 'overlaps', 'true', 'false', 'subject', 'resource', 'context', 'grant', 'now']
const FUNCTIONS: [string, string][] = [
  ["holds('')", 'whether the subject holds a role here'],
  ["member('')", 'whether the subject is in a declared group'],
  ['among(subject, )', 'whether the subject is there, directly or through groups'],
  ['known()', 'whether something is there'],
  ["meets('')", 'a condition with a name'],
  ["fits(, '')", 'a text against a pattern: * any run, ? one character'],
  ['starts(, )', 'how a text begins'],
  ['ends(, )', 'how a text ends'],
  ['contains(, )', 'what a text has in it'],
  ['lower()', 'a text in small letters'],
  ['count()', 'how many are in a list'],
  ["clock(now, '')", 'what the wall clock reads in a zone'],
  ["hour(now, '')", 'the hour of the day in a zone'],
  ["weekday(now, '')", "the day, such as 'monday', in a zone"],
  ["duration('')", 'a stretch of time, such as 2h30m'],
  ["time('')", 'a moment'],
  ["address('')", 'an address or a network'],
  ["entity('')", 'something of the register'],
]
const NAME = /[a-z][a-z0-9:.-]*/

/** The parts of conditions, inside the texts that hold them. */
const conditions = new MatchDecorator({
  regexp: /\bwhen\s*=\s*("[^"\n]*"|'[^'\n]*')/g,
  decorate: (add, from, _to, match) => {
    const start = from + match[0].length - match[1]!.length
    for (const part of match[1]!.matchAll(/'[^']*'|[a-z][a-z-]*(?=\()|\b(?:and|or|not|in|overlaps)\b|[<>=!]+/g)) {
      const at = start + part.index
      const kind = part[0].startsWith("'") ? 'cm-literal' : part[0].match(/^[<>=!]/) || WORDS.includes(part[0]) ? 'cm-word' : 'cm-call'
      add(at, at + part[0].length, Decoration.mark({ class: kind }))
    }
  },
})
const conditionMarks = ViewPlugin.fromClass(
  class {
    marks: DecorationSet
    constructor(view: EditorView) {
      this.marks = conditions.createDeco(view)
    }
    update(update: ViewUpdate) {
      this.marks = conditions.updateDeco(update, this.marks)
    }
  },
  { decorations: (plugin) => plugin.marks },
)

const highlighting = HighlightStyle.define([
  { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--ink)' },
  { tag: tags.string, color: 'var(--allowed)' },
  { tag: [tags.number, tags.bool, tags.atom], color: 'var(--undetermined)' },
])

const looks = EditorView.theme({
  '&': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', fontSize: '13px', height: '100%' },
  '.cm-scroller': { fontFamily: 'var(--mono)', lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'var(--ground)', color: 'var(--soft)', border: '0' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused': { outline: '2px solid var(--focus)' },
  '.cm-selectionBackground, &.cm-focused .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--focus) 25%, transparent) !important',
  },
  // Underlined, not filled: the colours of what stands there were chosen for the sheet.
  '.cm-selectionMatch': { backgroundColor: 'transparent', borderBottom: '2px solid var(--edge)' },
  '.cm-tooltip': { backgroundColor: 'var(--sheet)', border: '1px solid var(--edge)', borderRadius: '2px', color: 'var(--ink)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--ink)', color: 'var(--sheet)' },
  '.cm-panels': { backgroundColor: 'var(--ground)', color: 'var(--ink)' },
  '.cm-word': { color: 'var(--ink)', fontWeight: '700' },
  '.cm-call': { color: 'var(--draft)' },
  '.cm-literal': { color: 'var(--undetermined)' },
})

/** Names that fit at the cursor: what the charter defines, and in conditions its functions. */
export function completions(outline: Defined[], typed: string, inCondition: boolean): Completion[] {
  const names = outline.filter((one) => (inCondition ? ['attribute', 'relation'].includes(one.kind) || typed === '' : true))
  const seen = new Set<string>()
  const known = names.flatMap((one) => {
    if (seen.has(one.name)) return []
    seen.add(one.name)
    return [{ label: one.name, detail: one.kind, info: one.words }]
  })
  const quoted = inCondition
    ? outline
        .filter((one) => ['role', 'group', 'condition'].includes(one.kind))
        .map((one) => ({ label: one.name, detail: one.kind, info: one.words }))
    : []
  const functions = inCondition ? FUNCTIONS.map(([label, info]) => ({ label, info, detail: 'function' })) : []
  const words = inCondition ? WORDS.map((label) => ({ label, detail: 'word' })) : []
  return [...known, ...quoted.filter((one) => !seen.has(one.label)), ...functions, ...words]
}

/** What a name at a place means: itself, or the key a definition begins with. */
export function meaning(outline: Defined[], name: string, path: string, at: number): Defined | undefined {
  const here = outline.find((one) => one.path === path && one.start <= at && at <= one.end)
  return (
    here ??
    outline.find((one) => one.name === name) ??
    outline.find((one) => one.name.endsWith(`.${name}`) || one.name.endsWith(`:${name}`))
  )
}

/** The parts of the name of the table that a place of a text is in. */
export function tableAt(text: string, at: number): string[] {
  const end = text.indexOf('\n', at)
  const heads = text.slice(0, end < 0 ? text.length : end).matchAll(/^[ \t]*\[{1,2}([^[\]\n"']+)\]/gm)
  const last = [...heads].at(-1)?.[1] ?? ''
  return last.split('.').map((part) => part.trim())
}

function nameAt(state: EditorState, at: number) {
  const line = state.doc.lineAt(at)
  for (const match of line.text.matchAll(new RegExp(NAME, 'g'))) {
    const from = line.from + match.index
    if (from <= at && at <= from + match[0].length) return { name: match[0], from, to: from + match[0].length }
  }
  return undefined
}

function extensions(around: Around): Extension {
  const defined = (state: EditorState, at: number) => {
    const word = nameAt(state, at)
    return word && { word, found: meaning(around.outline(), word.name, around.path(), at) }
  }
  const goTo = (view: EditorView) => {
    const at = defined(view.state, view.state.selection.main.head)
    if (at?.found) around.onGoTo(at.found)
    return Boolean(at?.found)
  }
  return [
    lineNumbers(),
    history(),
    search({ top: true }),
    highlightSelectionMatches(),
    lintGutter(),
    StreamLanguage.define(toml),
    syntaxHighlighting(highlighting),
    conditionMarks,
    looks,
    EditorView.lineWrapping,
    EditorView.contentAttributes.of({ 'aria-label': 'Charter text', tabindex: '0' }),
    autocompletion({
      override: [
        (context: CompletionContext) => {
          const word = context.matchBefore(NAME)
          if (!word && !context.explicit) return null
          const before = context.state.doc.lineAt(context.pos).text.slice(0, context.pos - context.state.doc.lineAt(context.pos).from)
          return {
            from: word?.from ?? context.pos,
            options: completions(around.outline(), word?.text ?? '', /\bwhen\s*=\s*["'][^"]*$/.test(before)),
            validFor: /^[a-z0-9:.-]*$/,
          }
        },
      ],
    }),
    hoverTooltip((view, at) => {
      const here = defined(view.state, at)
      if (!here?.found) return null
      const { word, found } = here
      return {
        pos: word.from,
        end: word.to,
        create: () => {
          const dom = document.createElement('div')
          dom.style.cssText = 'padding: 4px 8px; max-width: 48em'
          dom.textContent = `${found.kind} ${found.name}${found.words ? `: ${found.words}` : ''} (${found.path})`
          return { dom }
        },
      }
    }),
    keymap.of([
      { key: 'Mod-s', preventDefault: true, run: () => (around.onSave(), true) },
      { key: 'F12', run: goTo },
      ...completionKeymap,
      ...lintKeymap,
      ...searchKeymap,
      ...historyKeymap,
      ...defaultKeymap,
    ]),
    EditorView.domEventHandlers({
      mousedown: (event, view) => {
        if (!event.ctrlKey && !event.metaKey) return false
        const at = view.posAtCoords({ x: event.clientX, y: event.clientY })
        const here = at === null ? undefined : defined(view.state, at)
        if (here?.found) around.onGoTo(here.found)
        return Boolean(here?.found)
      },
    }),
    EditorView.updateListener.of((update) => {
      if (update.docChanged) around.onChange(update.state.doc.toString())
      if (update.docChanged || update.selectionSet) around.onTable?.(tableAt(update.state.doc.toString(), update.state.selection.main.head))
    }),
  ]
}

export function open(parent: HTMLElement, text: string, around: Around): EditorView {
  return new EditorView({ parent, state: EditorState.create({ doc: text, extensions: extensions(around) }) })
}

/** A text in place of another, with its own history. */
export function show(view: EditorView, text: string, around: Around) {
  view.setState(EditorState.create({ doc: text, extensions: extensions(around) }))
}

/** Shows what the checker found, with its fixes. */
export function tell(view: EditorView, path: string, findings: Finding[]) {
  const length = view.state.doc.length
  const diagnostics: Diagnostic[] = findings
    .filter((finding) => finding.path === path)
    .map((finding) => ({
      from: Math.min(finding.start, length),
      to: Math.min(Math.max(finding.end, finding.start), length),
      severity: finding.severity,
      message: finding.help ? `${finding.message}\n${finding.help}` : finding.message,
      actions: finding.fix
        ? [{ name: `Write ${finding.fix}`, apply: (editor, from, to) => editor.dispatch({ changes: { from, to, insert: finding.fix! } }) }]
        : [],
    }))
  view.dispatch(setDiagnostics(view.state, diagnostics))
}

export function select(view: EditorView, from: number, to: number) {
  const length = view.state.doc.length
  const range = { anchor: Math.min(from, length), head: Math.min(to, length) }
  view.dispatch({ selection: range, effects: EditorView.scrollIntoView(range.anchor, { y: 'center' }) })
  view.focus()
}
