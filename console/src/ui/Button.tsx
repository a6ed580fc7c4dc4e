import { clsx } from 'clsx'
import type { ButtonHTMLAttributes } from 'react'
import { type Does, useMay } from '../may/may'

const looks = {
  main: 'bg-reed text-on-reed border-reed hover:opacity-90',
  plain: 'bg-leaf text-ink border-edge hover:bg-wash',
  quiet: 'bg-transparent text-ink border-transparent hover:bg-wash',
  danger: 'bg-leaf text-clay border-clay hover:bg-clay-wash',
}

export type ButtonLook = keyof typeof looks

/** The classes of a button, for links that look like one. */
export const buttonClass = (look: ButtonLook = 'plain') =>
  clsx(
    'inline-flex h-8 items-center justify-center gap-1.5 whitespace-nowrap rounded-sm border px-3 font-semibold text-sm',
    'disabled:opacity-50',
    looks[look],
  )

type Permitted = {
  /** The operation that the button leads to. Whoever may not carry it out does not see the button. */
  does?: Does
}

type Props = ButtonHTMLAttributes<HTMLButtonElement> & Permitted & { look?: ButtonLook }

export function Button({ look, does, className, ...rest }: Props) {
  const may = useMay()
  if (!may(does)) return null
  return <button type="button" {...rest} className={clsx(buttonClass(look), className)} />
}

type IconProps = ButtonHTMLAttributes<HTMLButtonElement> &
  Permitted & {
    /** What the button does, for screen readers. */
    label: string
  }

export function IconButton({ label, does, className, ...rest }: IconProps) {
  const may = useMay()
  if (!may(does)) return null
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      {...rest}
      className={clsx('inline-flex size-8 items-center justify-center rounded-sm text-soft hover:bg-wash', className)}
    />
  )
}
