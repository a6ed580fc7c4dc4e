/** The views of the policies page: the policies, and the apps that conditions can name. */
export const policyViews = ['policies', 'apps'] as const
export type PolicyView = (typeof policyViews)[number]
