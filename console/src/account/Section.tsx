import { type ReactNode, useId } from 'react'

/** A part of the account's dialog. */
export function Section({ title, children }: { title: string; children: ReactNode }) {
  const id = useId()
  return (
    <section aria-labelledby={id} className="flex flex-col gap-2 border-rule border-t pt-4">
      <h3 id={id} className="font-semibold text-sm">
        {title}
      </h3>
      {children}
    </section>
  )
}
