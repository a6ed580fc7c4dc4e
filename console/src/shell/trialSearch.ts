import type { Ask } from '../trials/trialQueries'

/** What of a page's address is the trial beside it: links to other pages keep it. */
export const trialOf = ({ url, as, at, sight }: Ask & { url?: string }): Ask & { url?: string } => ({
  url,
  as,
  at,
  sight,
})
