import { clsx } from 'clsx'
import { ArrowDown, ArrowUp } from 'lucide-react'
import type { KeyboardEvent, ReactNode } from 'react'

export const cellClass = 'border-rule border-b px-3 py-2 align-top first:pl-0 last:pr-0'

type HeadProps = {
  children: ReactNode
  /** The present order of the column; undefined if the table is not sorted by it. */
  sorted?: 'ascending' | 'descending'
  onSort?: () => void
  right?: boolean
  className?: string
}

/** A sticky column head; a button if the column can be sorted. */
export function Head({ children, sorted, onSort, right, className }: HeadProps) {
  const inner = onSort ? (
    <button type="button" onClick={onSort} className="inline-flex items-center gap-1 hover:text-ink">
      {children}
      {sorted === 'ascending' && <ArrowUp size={13} aria-hidden />}
      {sorted === 'descending' && <ArrowDown size={13} aria-hidden />}
    </button>
  ) : (
    children
  )
  return (
    <th
      scope="col"
      aria-sort={sorted}
      className={clsx(
        'sticky top-0 z-10 border-edge border-b bg-paper px-3 py-2 font-semibold text-sm text-soft first:pl-0 last:pr-0',
        right ? 'text-right' : 'text-left',
        className,
      )}
    >
      {inner}
    </th>
  )
}

/** Moves the focus between the rows of a table by the arrow keys: to the first link or button of each row. */
export function onRowKeys(event: KeyboardEvent<HTMLElement>) {
  if (event.key !== 'ArrowDown' && event.key !== 'ArrowUp') return
  const row = (event.target as HTMLElement).closest('tr')
  const next = event.key === 'ArrowDown' ? row?.nextElementSibling : row?.previousElementSibling
  const target = next?.querySelector<HTMLElement>('a, button, input')
  if (target) {
    event.preventDefault()
    target.focus()
  }
}
