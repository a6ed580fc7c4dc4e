import { clsx } from 'clsx'

export type Verdict = 'allow' | 'watch' | 'hold' | 'block'

/** Every verdict, the least strict first. */
export const verdicts: Verdict[] = ['allow', 'watch', 'hold', 'block']

const shapes = {
  allow: <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="2.2" />,
  watch: (
    <>
      <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="2.2" />
      <path d="M8 2.5a5.5 5.5 0 0 0 0 11z" fill="currentColor" />
    </>
  ),
  hold: <path d="M8 1.8 14.2 8 8 14.2 1.8 8z" fill="none" stroke="currentColor" strokeWidth="2" />,
  block: <rect x="2.5" y="2.5" width="11" height="11" fill="currentColor" />,
}

const inks = { allow: 'text-reed', watch: 'text-tide', hold: 'text-ochre', block: 'text-clay' }

/** The verdicts of rules, which may also only record. */
export const isVerdict = (text: string | undefined): text is Verdict => verdicts.includes(text as Verdict)

type Props = { verdict: Verdict; large?: boolean; bare?: boolean }

/** The mark of a verdict: a shape and a word, not only a colour. Bare, only screen readers get the word. */
export function VerdictMark({ verdict, large, bare }: Props) {
  return (
    <span
      className={clsx('inline-flex items-baseline gap-1.5 font-semibold', inks[verdict], large && 'text-lg')}
      title={bare ? verdict : undefined}
    >
      <svg
        viewBox="0 0 16 16"
        className={clsx('shrink-0 self-center', large ? 'size-4.5' : 'size-3.5')}
        aria-hidden="true"
      >
        {shapes[verdict]}
      </svg>
      <span className={bare ? 'sr-only' : undefined}>{verdict}</span>
    </span>
  )
}

/** The mark in place of a verdict if there is nothing to decide on. */
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
