/** The ways to look at exceptions: by how they stand; and grants. */
export const exceptionViews = ['in-force', 'soon', 'later', 'over', 'all', 'grants'] as const
export type View = (typeof exceptionViews)[number]
