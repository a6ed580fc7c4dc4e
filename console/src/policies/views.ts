/** What the page of policies shows: the policies, or the apps that rules can ask for. */
export const policyViews = ['policies', 'apps'] as const
export type PolicyView = (typeof policyViews)[number]
