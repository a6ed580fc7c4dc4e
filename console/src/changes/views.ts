/** The ways to look at changes: the draft's story, who would be affected by something, what was put live, who did what. */
export const changeViews = ['draft', 'expected', 'affected', 'history', 'audit'] as const
export type View = (typeof changeViews)[number]
