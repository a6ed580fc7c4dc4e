import { Link } from '@tanstack/react-router'
import { trialOf } from '../address/trialSearch'
import { Mono } from '../ui/Mono'

/** Leads to what a URL is. An entry stands for what it names. */
export function LookupLink({ url }: { url: string }) {
  return (
    <Link
      to="/lookup"
      search={(before) => ({ ...trialOf(before), of: url.replace(/^=|^\*\./, '') })}
      className="underline decoration-rule underline-offset-2 hover:decoration-ink"
    >
      <Mono>{url}</Mono>
    </Link>
  )
}
