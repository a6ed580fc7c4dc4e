/** The views of the policies page: the policies, the apps that conditions can name, and the search engines that can be made safe. */
export const policyViews = ['policies', 'apps', 'engines'] as const
export type PolicyView = (typeof policyViews)[number]
