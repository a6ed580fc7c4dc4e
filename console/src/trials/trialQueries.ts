import { queryOptions, useMutation } from '@tanstack/react-query'
import type { Ask, sights } from '../address/trialSearch'
import { api, data, type Schemas } from '../api/client'

export type Trial = Schemas['Trial']
export type Trials = Schemas['TrialsOutputBody']
export type Flip = Schemas['Flip']
export type Step = Schemas['Step']

/** The circumstances of a question in the form of the API. */
const asked = ({ as, at, sight = 'journey' }: Ask): Schemas['Circumstances'] => {
  const way = ways[sight]
  return {
    who: as ? { name: as } : undefined,
    at: at || undefined,
    journey: sight === 'journey' || way !== undefined,
    way,
    sight: sight === 'name' || sight === 'tunnel' || sight === 'full' ? sight : undefined,
  }
}

const ways: Partial<Record<(typeof sights)[number], string>> = {
  'by-dns': 'dns',
  'by-proxy': 'proxy',
  'by-both': 'dns,proxy',
  'by-icap': 'icap',
}

/** The answer for one URL on the present draft, with the next changes of the verdict. */
export const trialOptions = (url: string, ask: Ask) =>
  queryOptions({
    queryKey: ['trials', url, ask],
    retry: false,
    queryFn: () => data(api.POST('/api/v1/trials', { body: { urls: [url], ...asked(ask), outlook: true } })),
  })

/** The verdict on one URL on the live edition. */
export const liveTrialOptions = (url: string, ask: Ask) =>
  queryOptions({
    queryKey: ['trials', 'live', url, ask],
    retry: false,
    queryFn: async () =>
      (await data(api.POST('/api/v1/trials', { body: { urls: [url], ...asked(ask), on: 'live' } }))).trials[0],
  })

/** The answers for many URLs. */
export const tryManyOptions = (urls: string[], ask: Ask) =>
  queryOptions({
    queryKey: ['trials', 'many', urls, ask],
    enabled: urls.length > 0,
    retry: false,
    queryFn: () => data(api.POST('/api/v1/trials', { body: { urls, ...asked(ask) } })),
  })

/** The verdicts for URLs and every group that has a policy. */
export const matrixOptions = (urls: string[], ask: Ask) =>
  queryOptions({
    queryKey: ['trials', 'matrix', urls, ask],
    enabled: urls.length > 0,
    retry: false,
    queryFn: () => data(api.POST('/api/v1/trials/matrix', { body: { urls, ...asked(ask), who: undefined } })),
  })

/** The verdicts for URLs over a week, for every group that has a policy, or for given people or groups. */
export const sweepOptions = (urls: string[], ask: Ask) =>
  queryOptions({
    queryKey: ['trials', 'week', urls, ask],
    enabled: urls.length > 0,
    retry: false,
    queryFn: () => {
      const { who, journey, way, sight } = asked(ask)
      return data(api.POST('/api/v1/trials/sweep', { body: { urls, who: who && [who], journey, way, sight } }))
    },
  })

/** One of two trials that are compared. */
export type Side = Required<Pick<Ask, 'as' | 'at'>> & { on: 'draft' | 'live' }

/** The first difference between two trials of one URL. */
export const useCompare = () =>
  useMutation({
    mutationFn: ({ url, a, b }: { url: string; a: Side; b: Side }) => {
      const side = ({ on, ...ask }: Side) => ({ ...asked(ask), on })
      return data(api.POST('/api/v1/trials/compare', { body: { url, a: side(a), b: side(b) } }))
    },
  })
