import { clsx } from 'clsx'
import { Fragment } from 'react'

type Props = { children: string; className?: string }

/** A pattern or a URL, in a monospaced font, with line breaks allowed at dots and slashes. */
export function Mono({ children, className }: Props) {
  const parts = children.split(/(?<=[./?&=-])/)
  let at = 0
  return (
    <span className={clsx('mono break-words', className)}>
      {parts.map((part) => {
        const key = at
        at += part.length
        return (
          <Fragment key={key}>
            {part}
            <wbr />
          </Fragment>
        )
      })}
    </span>
  )
}
