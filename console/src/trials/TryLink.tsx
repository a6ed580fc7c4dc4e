import { Link } from '@tanstack/react-router'
import { Mono } from '../ui/Mono'

/** A link that opens the sheet with the trial of a URL, for somebody if given. */
export function TryLink({
  url,
  as,
  at,
  children,
}: {
  url: string
  as?: string
  at?: string
  children?: React.ReactNode
}) {
  return (
    <Link
      from="/try"
      search={(before) => ({ ...before, url, as: as ?? before.as, at: at ?? before.at })}
      className="text-left underline decoration-rule underline-offset-2 hover:decoration-ink"
    >
      {children ?? <Mono>{url}</Mono>}
    </Link>
  )
}
