import { clsx } from 'clsx'

/** The classes of a link to a view of a page. */
export const viewClass = (chosen: boolean) =>
  clsx(
    'whitespace-nowrap border-b-2 pb-0.5',
    chosen ? 'border-reed font-semibold' : 'border-transparent text-soft hover:text-ink',
  )
