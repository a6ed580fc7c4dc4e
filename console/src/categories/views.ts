/** The ways to look at categories; without one, all of them as a tree. */
export const categoryViews = ['corrections', 'unrated', 'scorecards'] as const

export type CategoryView = (typeof categoryViews)[number]
