import { useQuery } from '@tanstack/react-query'
import { diffOptions } from './draftQueries'

/** Marks an object that differs from the live edition: hatched, like everything that is only in the draft. */
export function DraftMark({ id }: { id: string }) {
  const diff = useQuery(diffOptions('live', 'draft'))
  const change = diff.data?.changes.find((c) => c.id === id)
  if (!change) return null
  const said = change.what === 'made' ? 'new, not live yet' : 'changed, not live yet'
  return (
    <span className="ml-2 inline-flex items-center align-middle" title={said}>
      <span aria-hidden className="inline-block h-3.5 w-3 border border-ochre" style={{ backgroundImage: hatch }} />
      <span className="sr-only">{said}</span>
    </span>
  )
}

const hatch = 'repeating-linear-gradient(135deg, transparent 0 2px, var(--ochre) 2px 3.2px)'
