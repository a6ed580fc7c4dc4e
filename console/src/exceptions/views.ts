/** The views of the exceptions page: exceptions by their standing, grants, and requests for access. */
export const exceptionViews = ['in-force', 'soon', 'later', 'over', 'all', 'grants', 'requests'] as const
export type View = (typeof exceptionViews)[number]
