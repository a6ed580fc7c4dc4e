import { createContext, type ReactNode, useCallback, useContext, useEffect, useState } from 'react'

/** An action beside an announcement, such as undoing. */
export type Action = { label: string; run: () => void }

const Announce = createContext<((text: string, action?: Action) => void) | null>(null)

/** The live region for the results of actions, which it shows for a while at the bottom of the page; screen readers read them. */
export function Announcer({ children }: { children: ReactNode }) {
  const [said, setSaid] = useState<{ text: string; times: number; action?: Action }>({ text: '', times: 0 })
  const announce = useCallback(
    (text: string, action?: Action) => setSaid((before) => ({ text, action, times: before.times + 1 })),
    [],
  )
  useEffect(() => {
    if (said.text === '') return
    const timer = setTimeout(
      () => setSaid((now) => (now.times === said.times ? { ...now, text: '' } : now)),
      said.action ? 15_000 : 6000,
    )
    return () => clearTimeout(timer)
  }, [said])
  return (
    <Announce value={announce}>
      {children}
      <div role="status" aria-live="polite" className="pointer-events-none fixed inset-x-0 bottom-4 z-50 text-center">
        {said.text && (
          <span className="inline-block rounded-sm border border-edge bg-leaf px-4 py-2 text-sm">
            {said.text}
            {said.action && (
              <button
                type="button"
                className="pointer-events-auto ml-4 font-semibold text-reed underline underline-offset-2"
                onClick={() => {
                  setSaid((now) => ({ ...now, text: '' }))
                  said.action?.run()
                }}
              >
                {said.action.label}
              </button>
            )}
          </span>
        )}
      </div>
    </Announce>
  )
}

export function useAnnounce() {
  const announce = useContext(Announce)
  if (!announce) throw new Error('`useAnnounce` must be used within `Announcer`')
  return announce
}
