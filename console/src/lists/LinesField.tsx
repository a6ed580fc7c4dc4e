import { clsx } from 'clsx'
import { useId, useRef } from 'react'
import { fieldClass } from '../ui/Field'
import type { Report } from './listQueries'

type Props = {
  label: string
  value: string
  onChange: (value: string) => void
  refused?: Report['refusedLines']
  changed?: Report['changedLines']
}

/** A text field with line numbers, which mark refused and changed lines. Lines do not wrap. */
export function LinesField({ label, value, onChange, refused = [], changed = [] }: Props) {
  const id = useId()
  const gutter = useRef<HTMLDivElement>(null)
  const wrong = new Set(refused.map((line) => line.line))
  const mended = new Set(changed.map((line) => line.line))
  const lines = value.split('\n').length
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id} className="font-semibold text-sm">
        {label}
      </label>
      <div className="flex h-52 shrink-0">
        <div
          ref={gutter}
          aria-hidden
          className="mono w-12 shrink-0 overflow-hidden border border-edge border-r-0 bg-wash py-2 text-right text-soft leading-6"
        >
          {Array.from({ length: lines }, (_, i) => i + 1).map((n) => (
            <div
              key={n}
              className={clsx(
                'border-transparent border-r-4 pr-1.5',
                wrong.has(n) && 'border-clay! bg-clay-wash font-semibold text-clay',
                mended.has(n) && 'border-ochre!',
              )}
            >
              {n}
            </div>
          ))}
        </div>
        <textarea
          id={id}
          // biome-ignore lint/a11y/noAutofocus: the dialog is for this field
          autoFocus
          wrap="off"
          spellCheck={false}
          autoCapitalize="none"
          value={value}
          aria-invalid={wrong.size > 0}
          aria-describedby={`${id}-hint`}
          onChange={(e) => onChange(e.target.value)}
          onScroll={(e) => gutter.current?.scrollTo({ top: e.currentTarget.scrollTop })}
          className={clsx(fieldClass, 'w-full resize-none rounded-none py-2 leading-6')}
        />
      </div>
      <p id={`${id}-hint`} className="text-sm text-soft">
        <code>heron.example</code> the site and all below it · <code>=</code> that only · <code>*.</code> only below ·{' '}
        <code>heron.*</code> any ending · <code>shop-*.heron.example</code> · <code>heron.example/wards</code> a page
        and all under it · <code>?q=*boat*</code> · <code>203.0.113.0/24</code> · <code>"word"</code> ·{' '}
        <code>~ REGEX</code> · <code>! …</code> taken out · <code># note</code>
      </p>
    </div>
  )
}
