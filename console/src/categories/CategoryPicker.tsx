import { useQuery } from '@tanstack/react-query'
import { X } from 'lucide-react'
import { useState } from 'react'
import { fieldClass } from '../ui/Field'
import { categoriesOptions } from './categoryQueries'

type Props = {
  label: string
  chosen: string[]
  onChange: (keys: string[]) => void
  /** Only one category may be chosen, as for a scorecard. */
  single?: boolean
  /** Families may be chosen, too, and stand for all their categories. */
  families?: boolean
  error?: string
}

/** A field that finds categories by name, keyword and description. */
export function CategoryPicker({ label, chosen, onChange, single, families: withFamilies, error }: Props) {
  const [text, setText] = useState('')
  const tree = useQuery(categoriesOptions())
  const found = useQuery({ ...categoriesOptions(text.trim()), enabled: text.trim() !== '' })
  const names = new Map(tree.data?.categories.map((c) => [c.key, c.name]))
  const families = new Map(tree.data?.families.map((f) => [f.key, f.name]))
  const offered = (text.trim() === '' || found.isPlaceholderData ? [] : (found.data?.categories ?? []))
    .filter((c) => !chosen.includes(c.key))
    .slice(0, 8)
  const wanted = text.trim().toLowerCase()
  const offeredFamilies =
    withFamilies && wanted !== ''
      ? (tree.data?.families ?? []).filter((f) => f.name.toLowerCase().includes(wanted) && !chosen.includes(f.key))
      : []
  const nameOf = (key: string) => names.get(key) ?? families.get(key) ?? key
  const choose = (key: string) => {
    onChange(single ? [key] : [...chosen, key])
    setText('')
  }
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="pb-1 font-semibold text-sm">{label}</legend>
      {chosen.length > 0 && (
        <ul className="flex flex-wrap gap-1.5">
          {chosen.map((key) => (
            <li key={key}>
              <button
                type="button"
                className="inline-flex items-center gap-1 rounded-sm border border-reed bg-reed-wash px-2 py-0.5 text-sm"
                aria-label={`Take ${nameOf(key)} away`}
                onClick={() => onChange(chosen.filter((k) => k !== key))}
              >
                {nameOf(key)}
                <X size={13} aria-hidden />
              </button>
            </li>
          ))}
        </ul>
      )}
      <input
        type="search"
        aria-label={`Find a category: ${label}`}
        placeholder="Type to find one: charity, puzzles, dose…"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key !== 'Enter' || text.trim() === '') return
          e.preventDefault()
          const first = offeredFamilies[0] ?? offered[0]
          if (first) choose(first.key)
        }}
        aria-invalid={error !== undefined}
        className={`${fieldClass} h-9 w-full`}
      />
      {error && <p className="text-clay text-sm">{error}</p>}
      {offered.length + offeredFamilies.length > 0 && (
        <ul className="max-h-52 overflow-y-auto rounded-sm border border-rule">
          {offeredFamilies.map((f) => (
            <li key={f.key} className="border-rule border-b">
              <button
                type="button"
                onClick={() => choose(f.key)}
                className="w-full px-2.5 py-1 text-left text-sm hover:bg-wash"
              >
                <span className="font-semibold">{f.name}</span>{' '}
                <span className="text-soft">the whole family, also what comes into it later</span>
              </button>
            </li>
          ))}
          {offered.map((c) => (
            <li key={c.key} className="border-rule border-b last:border-b-0">
              <button
                type="button"
                onClick={() => choose(c.key)}
                className="flex w-full flex-col px-2.5 py-1 text-left text-sm hover:bg-wash"
              >
                <span>
                  <span className="font-semibold">{c.name}</span>{' '}
                  <span className="text-soft">{families.get(c.family)}</span>
                </span>
                <span className="text-soft">{c.about}</span>
              </button>
            </li>
          ))}
        </ul>
      )}
      {text.trim() !== '' && found.data && offered.length + offeredFamilies.length === 0 && !found.isFetching && (
        <p className="text-sm text-soft">No category is about that.</p>
      )}
    </fieldset>
  )
}
