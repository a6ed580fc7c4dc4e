import type { Condition } from './policyQueries'

export type Kind = keyof Condition

/** The kind of a condition: its one field that is set. */
export const kindOf = (c: Condition): Kind =>
  (Object.keys(c).find((k) => c[k as Kind] !== undefined) as Kind | undefined) ?? 'all'

export const isJoint = (kind: Kind): kind is 'all' | 'any' | 'none' =>
  kind === 'all' || kind === 'any' || kind === 'none'

/** A new, empty condition of a kind. */
export const emptyOf = (kind: Kind): Condition =>
  kind === 'score' ? { score: { scorecard: { id: '' } } } : ({ [kind]: [] } as Condition)

/** Turns a condition into one of another kind: a compound condition keeps its parts, and any other becomes the first part of a compound one. */
export function reshaped(c: Condition, to: Kind): Condition {
  if (!isJoint(to)) return emptyOf(to)
  const kind = kindOf(c)
  return { [to]: isJoint(kind) ? (c[kind] ?? []) : [c] } as Condition
}
