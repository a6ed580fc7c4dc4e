import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, data, match, type Schemas } from '../api/client'
import { useEdit } from '../api/useEdit'

export type Policy = Schemas['Policy']
export type Rule = Schemas['RuleBody']
export type Condition = Schemas['Condition']
export type Settings = Schemas['Settings']
export type App = Schemas['App']
export type Engine = Schemas['Engine']

/** Policies in their order: the baseline, those of groups, the fallback. */
export const policiesOptions = queryOptions({
  queryKey: ['policies'],
  queryFn: async () => (await data(api.GET('/api/v1/policies'))).items,
})

export const settingsOptions = queryOptions({
  queryKey: ['settings'],
  queryFn: async () => {
    const settings = (await data(api.GET('/api/v1/settings'))).items[0]
    if (!settings) throw new Error('The service has no settings.')
    return settings
  },
})

/** The effect of each way of combining policies on the recorded requests. */
export const effectsOptions = queryOptions({
  queryKey: ['settings', 'effects'],
  queryFn: () => data(api.GET('/api/v1/settings/effects')),
})

export const appsOptions = queryOptions({
  queryKey: ['apps'],
  queryFn: async () => (await data(api.GET('/api/v1/apps'))).items,
})

/** The policies whose conditions name an app. */
export const appUsesOptions = (id: string) =>
  queryOptions({
    queryKey: ['apps', id, 'uses'],
    queryFn: async () => (await data(api.GET('/api/v1/uses', { params: { query: { kind: 'app', id } } }))).uses,
  })

export const useSaveApp = (app?: App) =>
  useEdit((body: Schemas['AppInput']) =>
    app
      ? data(api.PUT('/api/v1/apps/{id}', { params: { path: { id: app.id }, header: match(app.version) }, body }))
      : data(api.POST('/api/v1/apps', { body })),
  )

export const useRemoveApp = () =>
  useEdit((a: App) => api.DELETE('/api/v1/apps/{id}', { params: { path: { id: a.id }, header: match(a.version) } }))

export const enginesOptions = queryOptions({
  queryKey: ['engines'],
  queryFn: async () => (await data(api.GET('/api/v1/engines'))).items,
})

export const useSaveEngine = (engine?: Engine) =>
  useEdit((body: Schemas['EngineInput']) =>
    engine
      ? data(
          api.PUT('/api/v1/engines/{id}', { params: { path: { id: engine.id }, header: match(engine.version) }, body }),
        )
      : data(api.POST('/api/v1/engines', { body })),
  )

export const useRemoveEngine = () =>
  useEdit((e: Engine) =>
    api.DELETE('/api/v1/engines/{id}', { params: { path: { id: e.id }, header: match(e.version) } }),
  )

/** What a group may reach when. */
export const planOptions = (group: string) =>
  queryOptions({
    queryKey: ['plan', group],
    queryFn: () => data(api.GET('/api/v1/plan', { params: { query: { group } } })),
  })

/** The effect of rules in words, while they are written. */
export const explainRulesOptions = (rules: Rule[]) =>
  queryOptions({
    queryKey: ['rules', rules],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.POST('/api/v1/rules/explain', { body: { rules } })),
  })

export type Page = Schemas['PageBody']

/** The page that people see in place of what is refused, while it is written. */
export const pagePreviewOptions = (page: Page, language: string, held: boolean) =>
  queryOptions({
    queryKey: ['page', page, language, held],
    placeholderData: keepPreviousData,
    queryFn: () => data(api.POST('/api/v1/policies/page', { body: { page, language, held } })),
  })

/** The fields of a policy that an edit sends: all but those that the service adds. */
export function inputOf(policy: Policy): Schemas['PolicyInput'] {
  const { id, version, updatedAt, updatedBy, sentences, opens, insists, recorded, conflicts, ...input } = policy
  return input
}

export const usePutPolicy = () =>
  useEdit(
    ({ policy, change }: { policy: Policy; change: Partial<Schemas['PolicyInput']> }) =>
      data(
        api.PUT('/api/v1/policies/{id}', {
          params: { path: { id: policy.id }, header: match(policy.version) },
          body: { ...inputOf(policy), ...change },
        }),
      ),
    'policies',
  )

export const useAddPolicy = () =>
  useEdit((body: Schemas['PolicyInput']) => data(api.POST('/api/v1/policies', { body })))

/** Creates a policy from a starting point or a mode. */
export const useStartPolicy = () =>
  useEdit(
    async ({
      name,
      start,
      lists,
      groups,
    }: {
      name: string
      start: Schemas['StartInputBody']['start'] | 'empty'
      lists: string[]
      groups: Schemas['Ref'][]
    }) => {
      const begun =
        start === 'empty'
          ? { about: '', rules: [], otherwise: 'allow' as const }
          : await data(api.POST('/api/v1/policies/start', { body: { start, lists } }))
      return data(
        api.POST('/api/v1/policies', {
          body: { name, description: begun.about, groups, rules: begun.rules, otherwise: begun.otherwise },
        }),
      )
    },
  )

export const useRemovePolicy = () =>
  useEdit((p: Policy) =>
    api.DELETE('/api/v1/policies/{id}', { params: { path: { id: p.id }, header: match(p.version) } }),
  )

export const usePutSettings = () =>
  useEdit(({ settings, change }: { settings: Settings; change: Partial<Schemas['SettingsInput']> }) =>
    data(
      api.PUT('/api/v1/settings/{id}', {
        params: { path: { id: settings.id }, header: match(settings.version) },
        body: { combining: settings.combining, way: settings.way, order: settings.order, ...change },
      }),
    ),
  )

/** Removes one entry from a list, as a trial proposes. */
export const useTakeEntryOut = () =>
  useEdit(({ list, entry }: { list: string; entry: number }) =>
    data(api.POST('/api/v1/lists/{id}/entries/remove', { params: { path: { id: list } }, body: { ids: [entry] } })),
  )
