/** The views of the changes page: the draft, affected requests, the revisions, the audit log. */
export const changeViews = ['draft', 'expected', 'affected', 'history', 'audit'] as const
export type View = (typeof changeViews)[number]
