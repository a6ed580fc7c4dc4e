import { useEffect, useState } from 'react'

/** The value of a text or a form when nobody has typed for a moment. */
export function useSettled<T>(text: T) {
  const [settled, setSettled] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), 250)
    return () => clearTimeout(timer)
  }, [text])
  return settled
}
