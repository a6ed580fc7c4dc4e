/** The views of the categories page; without one, the tree of all categories. */
export const categoryViews = ['corrections', 'unrated', 'scorecards'] as const

export type CategoryView = (typeof categoryViews)[number]
