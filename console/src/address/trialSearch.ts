export const sights = ['journey', 'full', 'tunnel', 'name'] as const

/** Who asks, when, and what can be seen of it, as the address of a page holds it. */
export type Ask = { as?: string; at?: string; sight?: (typeof sights)[number] }

/** What of a page's address is the trial beside it: links to other pages keep it. */
export const trialOf = ({ url, as, at, sight }: Ask & { url?: string }): Ask & { url?: string } => ({
  url,
  as,
  at,
  sight,
})
