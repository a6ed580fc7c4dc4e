/** A query with one more term, which must hold, too. */
export function withTerm(query: string, term: string): string {
  const terms = query.trim()
  if (terms === '') return term
  if (` ${terms} `.includes(` ${term} `)) return terms
  return `${/\sor\s/i.test(` ${terms} `) ? `(${terms})` : terms} ${term}`
}

const spanTerms = /(^|\s)(since|until):("(?:[^"\\]|\\.)*"|[^\s()]+)/g

/** A query over another span of time; moments are as the language has them. */
export function withSpan(query: string, since: string, until?: string): string {
  const rest = query.replace(spanTerms, '$1').replace(/\s+/g, ' ').trim()
  return [rest, `since:${since}`, until && `until:${until}`].filter(Boolean).join(' ')
}

/** Since when a query looks, if it says so in one term. */
export const sinceOf = (query: string): string | undefined =>
  [...query.matchAll(spanTerms)].find((m) => m[2] === 'since')?.[3]
