import { describe, expect, test } from 'vitest'
import { emptyOf, isJoint, kindOf, reshaped } from './condition'
import type { Condition } from './policyQueries'

describe('a condition', () => {
  test.each<[Condition, string]>([
    [{ categories: ['games'] }, 'categories'],
    [{ all: [] }, 'all'],
    [{ none: [{ lists: [] }] }, 'none'],
    [{ lists: undefined, score: { scorecard: { id: 'x' } } }, 'score'],
    [{}, 'all'],
  ])('%j asks for %s', (c, kind) => {
    expect(kindOf(c)).toBe(kind)
  })

  test('is a joint or asks something itself', () => {
    expect(['all', 'any', 'none'].every((k) => isJoint(k as keyof Condition))).toBe(true)
    expect(isJoint('lists')).toBe(false)
  })

  test('begins empty', () => {
    expect(emptyOf('lists')).toEqual({ lists: [] })
    expect(emptyOf('score')).toEqual({ score: { scorecard: { id: '' } } })
  })

  test('keeps its parts from joint to joint, and goes into a new one', () => {
    const games: Condition = { categories: ['games'] }
    expect(reshaped(games, 'any')).toEqual({ any: [games] })
    expect(reshaped({ any: [games, { methods: ['POST'] }] }, 'none')).toEqual({ none: [games, { methods: ['POST'] }] })
    expect(reshaped({ any: [games] }, 'files')).toEqual({ files: [] })
    expect(reshaped(games, 'apps')).toEqual({ apps: [] })
  })
})
