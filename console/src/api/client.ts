import createClient, { type Middleware } from 'openapi-fetch'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']

/** The service's answer when it refuses a request (RFC 9457), with the fields that are wrong. */
export class ApiProblem extends Error {
  readonly status: number
  /** What programs tell problems of one status by (RFC 9457, section 3.1.1); "" for none. */
  readonly type: string
  /** Keyed by path, such as "rules[0].name"; "" for the request as a whole. */
  readonly fields: ReadonlyMap<string, string>
  /** Texts as they were probably meant, by the same paths. */
  readonly fixes: ReadonlyMap<string, string>

  constructor(
    status: number,
    detail: string,
    fields: ReadonlyMap<string, string> = new Map(),
    fixes: ReadonlyMap<string, string> = new Map(),
    type = '',
  ) {
    super(detail)
    this.status = status
    this.type = type
    this.fields = fields
    this.fixes = fixes
  }
}

/** Throws an ApiProblem for every answer other than 2xx, and for no answer, so a result always has `data`. */
const problems: Middleware = {
  async onResponse({ response }) {
    if (response.ok) return
    const body = await response
      .clone()
      .json()
      .catch(() => ({}))
    const fields = new Map<string, string>()
    const fixes = new Map<string, string>()
    for (const e of body.errors ?? []) {
      const path = String(e.location ?? '').replace(/^(body|query)\.?/, '')
      fields.set(path, e.message ?? '')
      if (e.value?.fix) fixes.set(path, e.value.fix)
    }
    throw new ApiProblem(
      response.status,
      body.detail ?? `The service answered ${response.status}.`,
      fields,
      fixes,
      body.type ?? '',
    )
  },
  onError() {
    return new ApiProblem(0, 'The service does not answer. Is it running?')
  },
}

export const api = createClient<paths>({ baseUrl: window.location.origin })
api.use(problems)

/** The data of an answer. */
export async function data<T>(answer: Promise<{ data?: T }>): Promise<T> {
  const { data } = await answer
  if (data === undefined) throw new ApiProblem(0, 'The service answered with nothing.')
  return data
}

/** The header that names the version of the object that is edited. */
export const match = (version: number) => ({ 'If-Match': `"${version}"` })
