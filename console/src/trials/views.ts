/** The ways to try: many URLs, many who ask, a week, two side by side. */
export const tryViews = ['many', 'matrix', 'week', 'compare'] as const
export type TryView = (typeof tryViews)[number]

/** The rows that are shown; more are counted, and the command line gives them all. */
export const shownRows = 1000
