import type { UseQueryResult } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { afterwards } from '../ui/afterwards'
import { Button } from '../ui/Button'
import { formatEnd, formatHour } from '../ui/clock'
import { count } from '../ui/format'
import { Loading, ProblemNotice } from '../ui/Notice'
import { VerdictMark } from '../ui/VerdictMark'
import { type LedGroup, type OwnList, type Preview, usePutOwn } from './steeringQueries'
import type { Kind } from './stintForm'

/** The name of the group's list that companions are added to. */
const companionsName = 'What the pages need'

type Props = {
  preview: UseQueryResult<Preview, Error>
  kind: Kind
  group: LedGroup
  own: OwnList[]
  /** Called with the list that a missing host was added to. */
  onAdded: (list: string) => void
}

/** What a stint would do: until when, for how many, what stands above it, what its pages miss. */
export function StintPreview({ preview, kind, group, own, onAdded }: Props) {
  const needs = own.find((l) => l.name === companionsName)
  const put = usePutOwn(needs?.id)
  if (preview.error) return <ProblemNotice error={preview.error} />
  if (!preview.data) return <Loading what="what it would do" />
  const { until, people, above, otherwise, missing, running } = preview.data
  const add = (entries: string[]) =>
    afterwards(
      put.mutateAsync({
        group: group.id,
        name: companionsName,
        entries: [...new Set([...(needs?.entries ?? []), ...entries])],
      }),
      (list) => onAdded(list.id),
    )
  return (
    <div className="flex flex-col gap-4 text-sm">
      <p>
        {count(people, 'person', 'people')}, until {formatHour(until)}. It holds at once.
      </p>
      {running && <p className="border-ochre border-l-3 pl-3">The stint of {running.by} would end.</p>}
      {missing.length > 0 && (
        <Part title="Pages in the lists need these, and would miss them">
          {missing.map((m) => (
            <li key={m.host + m.page} className="flex items-center gap-2 border-rule border-b py-1.5">
              <span className="min-w-0 grow">
                <span className="block break-words font-mono">{m.host}</span>
                <span className="block text-soft text-xs">
                  with {m.page} in {m.times} of {m.of} visits{m.signOn && '; people sign in there'}
                </span>
              </span>
              <Button does="addOwnList" className="min-h-10!" onClick={() => add([m.entry])} disabled={put.isPending}>
                Let it in
              </Button>
            </li>
          ))}
          {missing.length > 1 && (
            <li className="pt-2">
              <Button does="addOwnList" onClick={() => add(missing.map((m) => m.entry))} disabled={put.isPending}>
                Let all of them in
              </Button>
            </li>
          )}
        </Part>
      )}
      {put.error && <ProblemNotice error={put.error} />}
      {otherwise.length > 0 && (
        <Part title={kind === 'only' ? 'In the lists, and yet closed' : 'In the lists, and yet open'}>
          {otherwise.map((o) => (
            <li key={o.url} className="border-rule border-b py-1.5">
              <span className="block break-all font-mono">{o.url}</span>
              <span className="flex items-center gap-2 text-soft text-xs">
                <VerdictMark verdict={o.verdict} /> {o.because}
              </span>
            </li>
          ))}
        </Part>
      )}
      {above.length > 0 && (
        <Part title="What decides before it, as always">
          {above.map((a) => (
            <li key={a.kind + a.name} className="flex items-baseline gap-2 py-1">
              <VerdictMark verdict={a.then} />
              <span>
                {a.name}
                {a.until && <span className="text-soft"> {formatEnd(a.until)}</span>}
              </span>
            </li>
          ))}
        </Part>
      )}
    </div>
  )
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h3 className="pb-1 font-semibold">{title}</h3>
      <ul>{children}</ul>
    </section>
  )
}
