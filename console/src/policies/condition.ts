import type { Condition } from './policyQueries'

export type Kind = keyof Condition

/** What a condition asks: the one of its fields that is given. */
export const kindOf = (c: Condition): Kind =>
  (Object.keys(c).find((k) => c[k as Kind] !== undefined) as Kind | undefined) ?? 'all'

export const isJoint = (kind: Kind): kind is 'all' | 'any' | 'none' =>
  kind === 'all' || kind === 'any' || kind === 'none'

/** A new condition of a kind; what is in it is still to be said. */
export const emptyOf = (kind: Kind): Condition =>
  kind === 'score' ? { score: { scorecard: { id: '' } } } : ({ [kind]: [] } as Condition)

/** A condition made into one of another kind: a joint keeps its parts, what asked something itself becomes the first part of a joint. */
export function reshaped(c: Condition, to: Kind): Condition {
  if (!isJoint(to)) return emptyOf(to)
  const kind = kindOf(c)
  return { [to]: isJoint(kind) ? (c[kind] ?? []) : [c] } as Condition
}
