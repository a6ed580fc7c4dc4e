import { TriangleAlert } from 'lucide-react'
import type { CategoryRef } from './categoryQueries'

type Props = { categories: CategoryRef[]; none?: string }

/** Categories in a line. Dangers have a mark and a word, not only a colour. */
export function CategoryNames({ categories, none = 'unrated' }: Props) {
  if (categories.length === 0) return <span className="text-soft italic">{none}</span>
  return (
    <>
      {categories.map((c, i) => (
        <span key={c.key} title={c.family}>
          {i > 0 && ', '}
          {c.security ? (
            <span className="font-semibold text-clay">
              <TriangleAlert size={13} aria-hidden className="mr-0.5 inline align-[-0.1em]" />
              {c.name}
              <span className="sr-only"> (a danger)</span>
            </span>
          ) : (
            c.name
          )}
        </span>
      ))}
    </>
  )
}
