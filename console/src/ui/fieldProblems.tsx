import { ApiProblem } from '../api/client'
import { ProblemNotice } from './Notice'

/** The problem of a field, by the beginning of its path. */
export type Wrong = (path: string) => string | undefined

/**
 * The problems that the service found in the fields of a form. `wrong` returns those of a field; `others`, which comes after all fields, returns
 * those that no field asked for, so that nothing is hidden.
 */
export function fieldProblems(error: Error | null): { wrong: Wrong; others: () => React.ReactNode } {
  const fields = error instanceof ApiProblem ? [...error.fields] : []
  const asked: string[] = []
  return {
    wrong: (path) => {
      asked.push(path)
      return fields.find(([at]) => at.startsWith(path))?.[1]
    },
    others: () => {
      const told = fields.length > 0 && fields.every(([at]) => asked.some((path) => at.startsWith(path)))
      return error && !told ? <ProblemNotice error={error} /> : null
    },
  }
}
