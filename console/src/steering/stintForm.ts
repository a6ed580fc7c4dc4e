import type { NewStint } from './steeringQueries'

export type Kind = NewStint['kind']

/** What the lead has chosen. */
export type Choice = {
  kind: Kind
  lists: string[]
  own: string[]
  /** For these alone; null for the whole group. */
  people: string[] | null
  /** Minutes, or the id of a schedule whose window ends. */
  ends: number | string
  reason: string
}

export const atFirst: Choice = { kind: 'only', lists: [], own: [], people: null, ends: 45, reason: '' }

/** What is sent of a choice; null as long as something is missing. */
export function stintOf(group: string, c: Choice): NewStint | null {
  const lists = c.kind === 'nothing' ? {} : { lists: c.lists, own: c.own }
  if (c.kind !== 'nothing' && c.lists.length + c.own.length === 0) return null
  if (c.people?.length === 0) return null
  return {
    group,
    kind: c.kind,
    ...lists,
    ...(c.people && { people: c.people }),
    ...(typeof c.ends === 'number' ? { minutes: c.ends } : { schedule: c.ends }),
    ...(c.reason.trim() && { reason: c.reason.trim() }),
  }
}

/** Adds something, or takes it away. */
export const toggled = (all: string[], one: string) =>
  all.includes(one) ? all.filter((o) => o !== one) : [...all, one]

/** The time that is left until a moment, in words. */
export function leftSaid(until: string, now: number) {
  const minutes = Math.max(0, Math.ceil((new Date(until).getTime() - now) / 60_000))
  if (minutes < 1) return 'it ends now'
  if (minutes < 60) return minutes === 1 ? '1 minute left' : `${minutes} minutes left`
  const hours = Math.floor(minutes / 60)
  return `${hours} h ${minutes % 60} min left`
}

/** What a stint does, as "only Reading". */
export function saysWhat(st: { kind: Kind; lists?: { name?: string }[]; own?: { name?: string }[] }) {
  if (st.kind === 'nothing') return 'the web is paused'
  const names = [...(st.lists ?? []), ...(st.own ?? [])].map((l) => l.name || 'a list that is gone').join(', ')
  return st.kind === 'only' ? `only ${names}` : `all but ${names}`
}
