/** What is seen of a request: what the gates on the asker's way see (a journey), those on a given way, or a fixed sight. */
export const sights = ['journey', 'by-dns', 'by-proxy', 'by-both', 'by-icap', 'full', 'tunnel', 'name'] as const

/** The circumstances of a trial (who asks, when, which parts of the request are seen) as search parameters. */
export type Ask = { as?: string; at?: string; sight?: (typeof sights)[number] }

/** The search parameters of the trial beside a page, which links to other pages keep. */
export const trialOf = ({ url, as, at, sight }: Ask & { url?: string }): Ask & { url?: string } => ({
  url,
  as,
  at,
  sight,
})
