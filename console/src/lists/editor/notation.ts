import { HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language'
import { tags } from '@lezer/highlight'

type State = { part: 'start' | 'host' | 'path' | 'query' | 'regex' | 'word' | 'attributes' }

/** Highlights the notation of entries; only the service checks it. */
const language = StreamLanguage.define<State>({
  name: 'entries',
  startState: () => ({ part: 'start' }),
  token(stream, state) {
    if (stream.sol()) state.part = 'start'
    const afterBlank = stream.sol() || /\s/.test(stream.string.charAt(stream.pos - 1))
    if (stream.eatSpace()) return null
    if (afterBlank && stream.peek() === '#') {
      stream.skipToEnd()
      return 'comment'
    }
    if (stream.match(/^\[(?=\s*(until|off)\b)[^\]]*\]/i)) return 'meta'
    if (state.part === 'start') return start(stream, state)
    if (state.part === 'regex') {
      if (stream.match(/^\\./)) return 'escape'
      if (stream.match(/^[()[\]{}|^$*+?.]/)) return 'operator'
      stream.next()
      return 'string'
    }
    if (state.part === 'word') {
      if (stream.eat('*')) return 'operator'
      stream.next()
      return 'string'
    }
    if (stream.match(/^\*+/)) return 'operator'
    if (state.part === 'host' && stream.match(/^:\d+/)) return 'number'
    if (state.part === 'host' && stream.peek() === '/') state.part = 'path'
    if (state.part !== 'query' && stream.eat('?')) {
      state.part = 'query'
      return 'operator'
    }
    if (state.part === 'query' && stream.match(/^[=&]/)) return 'operator'
    stream.next()
    return { host: 'variableName', path: 'propertyName', query: 'string' }[state.part as 'host' | 'path' | 'query']
  },
})

function start(stream: import('@codemirror/language').StringStream, state: State) {
  if (stream.eat('!')) return 'keyword'
  if (stream.match(/^~(host|path)?(?=\s|$)/i)) {
    state.part = 'regex'
    return 'keyword'
  }
  if (stream.eat('"')) {
    state.part = 'word'
    return 'string'
  }
  if (stream.eat('=')) return 'operator'
  if (stream.match(/^https?:\/\//i)) {
    state.part = 'host'
    return 'meta'
  }
  state.part = 'host'
  if (stream.match(/^\*+/)) return 'operator'
  stream.next()
  return 'variableName'
}

const colours = HighlightStyle.define([
  { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
  { tag: tags.keyword, color: 'var(--ochre)', fontWeight: '600' },
  { tag: tags.operator, color: 'var(--clay)', fontWeight: '600' },
  { tag: tags.meta, color: 'var(--ochre)' },
  { tag: tags.number, color: 'var(--ochre)' },
  { tag: tags.string, color: 'var(--reed)' },
  { tag: tags.escape, color: 'var(--ochre)' },
  { tag: tags.propertyName, color: 'var(--reed)' },
  { tag: tags.variableName, color: 'var(--ink)' },
])

export const notation = [language, syntaxHighlighting(colours)]
