import { clsx } from 'clsx'
import type { ReactNode } from 'react'

type Props = {
  chosen: boolean
  onChoose: () => void
  title: ReactNode
  note?: ReactNode
  disabled?: boolean
}

/** A choice that is large enough for a finger. */
export function Big({ chosen, onChoose, title, note, disabled }: Props) {
  return (
    <button
      type="button"
      aria-pressed={chosen}
      disabled={disabled}
      onClick={onChoose}
      className={clsx(
        'min-h-12 rounded-sm border px-4 py-2 text-left disabled:opacity-60',
        chosen ? 'border-reed border-2 bg-reed-wash' : 'border-edge bg-leaf hover:bg-wash',
      )}
    >
      <span className="block font-semibold">{title}</span>
      {note && <span className="block text-sm text-soft">{note}</span>}
    </button>
  )
}

/** A group of choices with its question. */
export function Question({ text, children }: { text: string; children: ReactNode }) {
  return (
    <fieldset>
      <legend className="pb-2 font-semibold">{text}</legend>
      <div className="flex flex-wrap gap-2">{children}</div>
    </fieldset>
  )
}
