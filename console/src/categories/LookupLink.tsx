import { Link } from '@tanstack/react-router'
import type { ReactNode } from 'react'
import { trialOf } from '../address/trialSearch'
import { Mono } from '../ui/Mono'

/** A link to the lookup of a URL, or of the URL that an entry names. */
export function LookupLink({ url, children }: { url: string; children?: ReactNode }) {
  return (
    <Link
      to="/lookup"
      search={(before) => ({ ...trialOf(before), of: url.replace(/^=|^\*\./, '') })}
      className="underline decoration-rule underline-offset-2 hover:decoration-ink"
    >
      {children ?? <Mono>{url}</Mono>}
    </Link>
  )
}
