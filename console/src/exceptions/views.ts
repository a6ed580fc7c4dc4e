/** The views of the exceptions page: exceptions by their standing, grants, and ways past holds. */
export const exceptionViews = ['in-force', 'soon', 'later', 'over', 'all', 'grants', 'codes'] as const
export type View = (typeof exceptionViews)[number]
