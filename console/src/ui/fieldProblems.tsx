import { ApiProblem } from '../api/client'
import { ProblemNotice } from './Notice'

/** What is wrong with a field, by the beginning of its path. */
export type Wrong = (path: string) => string | undefined

/**
 * What the service says of the fields of a form. `wrong` tells it beside a field; `others`, which stands after all fields, tells what no
 * field asked for, so that nothing is hidden.
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
