import type { ReactNode } from 'react'
import { viewClass } from './viewClass'

/** Buttons for the views of a page; counts, if any, come after the names, and children at the end of the row. */
export function ViewButtons<V extends string>({
  names,
  chosen,
  counts,
  onChoose,
  children,
}: {
  names: Record<V, string>
  chosen: V
  counts?: Partial<Record<V, string | number>>
  onChoose: (view: V) => void
  children?: ReactNode
}) {
  return (
    <div className="flex flex-wrap items-center gap-x-5 gap-y-1 border-rule border-b pb-2">
      {(Object.keys(names) as V[]).map((v) => (
        <button
          key={v}
          type="button"
          aria-pressed={v === chosen}
          onClick={() => onChoose(v)}
          className={viewClass(v === chosen)}
        >
          {names[v]} {counts?.[v] !== undefined && <span className="text-sm text-soft">{counts[v]}</span>}
        </button>
      ))}
      {children}
    </div>
  )
}
