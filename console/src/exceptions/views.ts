/** The ways to look at exceptions: by how they stand. */
export const exceptionViews = ['in-force', 'soon', 'later', 'over', 'all'] as const
export type View = (typeof exceptionViews)[number]
