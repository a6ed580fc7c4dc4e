/** The views of the exceptions page: exceptions by their standing, and grants. */
export const exceptionViews = ['in-force', 'soon', 'later', 'over', 'all', 'grants'] as const
export type View = (typeof exceptionViews)[number]
