import type { ReactNode } from 'react'
import { ApiProblem } from '../api/client'
import { Button } from './Button'

type ProblemProps = { error: Error; retry?: () => void }

/** The text of an error: the problems of fields if there are any, and otherwise the error's own message. */
const reason = (error: Error) =>
  error instanceof ApiProblem && error.fields.size > 0 ? `${[...error.fields.values()].join('; ')}.` : error.message

/** An error with its text and, if there is one, a way to try again. */
export function ProblemNotice({ error, retry }: ProblemProps) {
  return (
    <div role="alert" className="flex items-center gap-3 border-clay border-l-3 bg-clay-wash px-3 py-2 text-sm">
      <p className="grow">{reason(error)}</p>
      {retry && (
        <Button onClick={retry} look="plain">
          Try again
        </Button>
      )}
    </div>
  )
}

type EmptyProps = { title: string; children: ReactNode; action?: ReactNode }

/** The purpose of an empty page, and the first step. */
export function EmptyNotice({ title, children, action }: EmptyProps) {
  return (
    <div className="mx-auto flex max-w-lg flex-col items-start gap-3 py-16">
      <h2 className="font-semibold text-lg">{title}</h2>
      <p className="text-soft">{children}</p>
      {action}
    </div>
  )
}

export function Loading({ what }: { what: string }) {
  return (
    <p role="status" className="py-8 text-soft">
      Fetching {what}…
    </p>
  )
}
