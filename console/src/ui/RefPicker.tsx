import { X } from 'lucide-react'
import { useState } from 'react'
import { fieldClass } from './Field'

export type Named = { id: string; name?: string }

type Props = {
  label: string
  chosen: Named[]
  /** All options, or those that match the text. */
  offered: Named[]
  onChange: (refs: Named[]) => void
  onText?: (text: string) => void
  placeholder?: string
  error?: string
}

/** A field that chooses some of many lists, groups or people by typing. Enter takes the first match. */
export function RefPicker({ label, chosen, offered, onChange, onText, placeholder, error }: Props) {
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const wanted = text.trim().toLowerCase()
  const fitting = offered
    .filter((o) => !chosen.some((c) => c.id === o.id) && (o.name ?? '').toLowerCase().includes(wanted))
    .slice(0, 8)
  const type = (to: string) => {
    setText(to)
    onText?.(to)
  }
  const choose = (ref: Named) => {
    onChange([...chosen, ref])
    type('')
  }
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="pb-1 font-semibold text-sm">{label}</legend>
      {chosen.length > 0 && (
        <ul className="flex flex-wrap gap-1.5">
          {chosen.map((ref) => (
            <li key={ref.id}>
              <button
                type="button"
                className="inline-flex items-center gap-1 rounded-sm border border-reed bg-reed-wash px-2 py-0.5 text-sm"
                aria-label={`Take ${ref.name} away`}
                onClick={() => onChange(chosen.filter((c) => c.id !== ref.id))}
              >
                {ref.name}
                <X size={13} aria-hidden />
              </button>
            </li>
          ))}
        </ul>
      )}
      <input
        type="search"
        aria-label={`Find one: ${label}`}
        placeholder={placeholder ?? 'Type to find one'}
        value={text}
        onChange={(e) => type(e.target.value)}
        onFocus={() => setOpen(true)}
        onBlur={(e) => {
          if (!e.currentTarget.parentElement?.contains(e.relatedTarget)) setOpen(false)
        }}
        onKeyDown={(e) => {
          if (e.key !== 'Enter') return
          e.preventDefault()
          if (fitting[0] && wanted !== '') choose(fitting[0])
        }}
        aria-invalid={error !== undefined}
        className={`${fieldClass} h-9 w-full`}
      />
      {error && <p className="text-clay text-sm">{error}</p>}
      {open && fitting.length > 0 && (
        <ul className="max-h-44 overflow-y-auto rounded-sm border border-rule bg-leaf">
          {fitting.map((o) => (
            <li key={o.id} className="border-rule border-b last:border-b-0">
              <button
                type="button"
                onClick={() => choose(o)}
                className="w-full px-2.5 py-1 text-left text-sm hover:bg-wash"
              >
                {o.name}
              </button>
            </li>
          ))}
        </ul>
      )}
    </fieldset>
  )
}
