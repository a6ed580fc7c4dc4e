import { useState } from 'react'
import { wallDay, wallMoment, zoneName } from './clock'
import { TextField } from './Field'

type Props = {
  label: string
  /** A time of the organisation's clock, such as "2026-11-27T14:10", or a day; "" for none. */
  value: string
  onChange: (value: string) => void
  /** The field is for a day without a time. */
  day?: boolean
  required?: boolean
  disabled?: boolean
  hint?: string
  error?: string
}

/**
 * A field for a moment or a day, in the form of the command line and by the organisation's clock. The browser's own fields for moments follow the
 * language and the clock of the browser instead.
 */
export function MomentField({ label, value, onChange, day, hint, error, ...rest }: Props) {
  const [text, setText] = useState(value.replace('T', ' '))
  const read = day ? wallDay : wallMoment
  const [left, setLeft] = useState(true)
  const wrong = text.trim() !== '' && read(text) === undefined
  const how = `write it as ${day ? '2026-11-27' : '2026-11-27 14:10'}`
  const clock = `By the clock of ${zoneName()}.`
  return (
    <TextField
      label={label}
      value={text}
      placeholder={day ? '2026-11-27' : '2026-11-27 14:10'}
      autoComplete="off"
      spellCheck={false}
      onChange={(e) => {
        const written = e.target.value
        e.target.setCustomValidity(written.trim() !== '' && read(written) === undefined ? `${how}.` : '')
        setText(written)
        onChange(read(written) ?? '')
      }}
      onFocus={() => setLeft(false)}
      onBlur={() => setLeft(true)}
      onInvalid={(e) => {
        if (wrong) e.preventDefault() // the sentence below the field takes the place of the browser's message
        setLeft(true)
      }}
      hint={day ? hint : [hint, clock].filter(Boolean).join(' ')}
      error={error ?? (wrong && left ? how : undefined)}
      {...rest}
    />
  )
}
