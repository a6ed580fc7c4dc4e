import { clsx } from 'clsx'

export type Verdict = 'allow' | 'block'

const shapes = {
  allow: <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="2.2" />,
  block: <rect x="2.5" y="2.5" width="11" height="11" fill="currentColor" />,
}

type Props = { verdict: Verdict; large?: boolean }

/** The one mark of a verdict: told by shape and word before colour. */
export function VerdictMark({ verdict, large }: Props) {
  return (
    <span
      className={clsx(
        'inline-flex items-center gap-1.5 font-semibold',
        verdict === 'block' ? 'text-clay' : 'text-reed',
        large && 'text-lg',
      )}
    >
      <svg viewBox="0 0 16 16" className={large ? 'size-4.5' : 'size-3.5'} aria-hidden="true">
        {shapes[verdict]}
      </svg>
      {verdict}
    </span>
  )
}

/** Stands in place of a verdict where there is nothing to decide on. */
export function NoVerdict({ children }: { children: string }) {
  return (
    <span className="inline-flex items-center gap-1.5 font-semibold text-ochre">
      <svg viewBox="0 0 16 16" className="size-3.5" aria-hidden="true">
        <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="2.2" strokeDasharray="1.6 2.2" />
      </svg>
      {children}
    </span>
  )
}
