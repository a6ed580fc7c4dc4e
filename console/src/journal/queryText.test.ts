import { describe, expect, it } from 'vitest'
import { quoted } from '../usage/quoted'
import { sinceOf, withSpan, withTerm } from './queryText'

describe('withTerm', () => {
  it('adds a term that must hold, too', () => {
    expect(withTerm('', 'host:heron.example')).toBe('host:heron.example')
    expect(withTerm('verdict:block', 'host:heron.example')).toBe('verdict:block host:heron.example')
    expect(withTerm('verdict:block since:2h', 'verdict:block')).toBe('verdict:block since:2h')
  })
  it('binds what has an "or" together', () => {
    expect(withTerm('a or b', '-c')).toBe('(a or b) -c')
  })
})

describe('withSpan', () => {
  it('takes the place of the span that was there', () => {
    expect(withSpan('verdict:block since:2h', '7d')).toBe('verdict:block since:7d')
    expect(withSpan('since:"2026-11-30 09:00" x until:10:00', '14:00', '15:00')).toBe('x since:14:00 until:15:00')
    expect(withSpan('', '1h')).toBe('since:1h')
  })
  it('knows since when a query looks', () => {
    expect(sinceOf('x since:7d')).toBe('7d')
    expect(sinceOf('sincere:7d')).toBeUndefined()
  })
})

describe('quoted', () => {
  it('quotes what would read otherwise', () => {
    expect(quoted('kay')).toBe('kay')
    expect(quoted('Kay Moran')).toBe('"Kay Moran"')
    expect(quoted('say "x"')).toBe('"say \\"x\\""')
  })
})
