import { clsx } from 'clsx'
import { type InputHTMLAttributes, type ReactNode, type TextareaHTMLAttributes, useId } from 'react'

export const fieldClass =
  'rounded-sm border border-edge bg-leaf px-2.5 text-ink placeholder:text-soft aria-[invalid=true]:border-clay'

type Shared = {
  label: string
  hint?: ReactNode
  /** The problem of the value, a clause; undefined if there is none. */
  error?: string
}

function Labelled({ id, label, hint, error, children }: Shared & { id: string; children: ReactNode }) {
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id} className="font-semibold text-sm">
        {label}
      </label>
      {children}
      {hint && !error && <p className="text-sm text-soft">{hint}</p>}
      {error && (
        <p id={`${id}-error`} className="text-clay text-sm">
          {error}
        </p>
      )}
    </div>
  )
}

type TextProps = Shared & InputHTMLAttributes<HTMLInputElement>

export function TextField({ label, hint, error, className, ...rest }: TextProps) {
  const id = useId()
  return (
    <Labelled id={id} label={label} hint={hint} error={error}>
      <input
        id={id}
        aria-invalid={error !== undefined}
        aria-describedby={error ? `${id}-error` : undefined}
        {...rest}
        className={clsx(fieldClass, 'h-9 w-full', className)}
      />
    </Labelled>
  )
}

type AreaProps = Shared & TextareaHTMLAttributes<HTMLTextAreaElement>

export function TextArea({ label, hint, error, className, ...rest }: AreaProps) {
  const id = useId()
  return (
    <Labelled id={id} label={label} hint={hint} error={error}>
      <textarea
        id={id}
        aria-invalid={error !== undefined}
        aria-describedby={error ? `${id}-error` : undefined}
        {...rest}
        className={clsx(fieldClass, 'w-full py-2', className)}
      />
    </Labelled>
  )
}

type ChoiceProps = { label: string; value: string; onChange: (value: string) => void; options: [string, string][] }

/** A choice among a few options, each a value and its name. */
export function Choice({ label, value, onChange, options }: ChoiceProps) {
  return (
    <label className="flex flex-col gap-1 font-semibold text-sm">
      {label}
      <select
        value={value}
        onChange={(e) => onChange(e.target.value)}
        className={clsx(fieldClass, 'h-9 font-normal text-base')}
      >
        {options.map(([key, name]) => (
          <option key={key} value={key}>
            {name}
          </option>
        ))}
      </select>
    </label>
  )
}

type CheckProps = { label: ReactNode; checked: boolean; onChange: (on: boolean) => void }

export function Check({ label, checked, onChange }: CheckProps) {
  return (
    <label className="flex items-baseline gap-2 text-sm">
      <input type="checkbox" checked={checked} onChange={(e) => onChange(e.target.checked)} className="accent-reed" />
      <span>{label}</span>
    </label>
  )
}
