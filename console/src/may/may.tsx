import { type QueryKey, type UseQueryOptions, useQuery } from '@tanstack/react-query'
import { createContext, type ReactNode, useContext, useMemo } from 'react'
import type { Schemas } from '../api/client'
import type { operations } from '../api/schema.gen'

/** An operation of the service, by the id that the contract gives it. */
export type Does = keyof operations

type Permitted = Schemas['Permitted']

const Permissions = createContext<Permitted[]>([])

/** What an operation would be carried out on. */
export type Subject = {
  /** The entries of this list. */
  list?: string
  /** People who were chosen from those whom the account may see, or whom somebody still chooses. */
  people?: boolean
}

const About = createContext<Subject>({})

/** Says to everything below what the account may do. */
export function Permit({ parts, children }: { parts: Permitted[]; children: ReactNode }) {
  return <Permissions value={parts}>{children}</Permissions>
}

/** Says to everything below what operations there are carried out on. */
export function Concerns({ list, people, children }: Subject & { children: ReactNode }) {
  const subject = useMemo(() => ({ list, people }), [list, people])
  return <About value={subject}>{children}</About>
}

/** Whether parts permit an operation on a subject. Without an operation there is nothing to permit. */
export const permits = (parts: Permitted[], does: Does | undefined, { list, people }: Subject) =>
  does === undefined ||
  parts.some(
    (part) =>
      part.operations.includes(does) &&
      (part.whole || (people && part.groups !== undefined) || (list !== undefined && part.lists?.includes(list))),
  )

/** Returns whether the account may carry out an operation: nobody is shown a button that the service would refuse. */
export function useMay() {
  const parts = useContext(Permissions)
  const subject = useContext(About)
  return (does: Does | undefined, on: Subject = subject) => permits(parts, does, on)
}

/** A query that is asked only by whoever may carry out its operation. */
export function useAsked<T, E extends Error, D, K extends QueryKey>(does: Does, options: UseQueryOptions<T, E, D, K>) {
  const may = useMay()
  return useQuery({ ...options, enabled: options.enabled !== false && may(does, { people: true }) })
}

/** Whether the account may see who asked: of everybody, or of some people. */
export const useNames = () => useMay()('getPresences', { people: true })

/** Shows its children to whoever may carry out an operation. */
export function May({ does, on, children }: { does: Does; on?: Subject; children: ReactNode }) {
  return useMay()(does, on) ? children : null
}
