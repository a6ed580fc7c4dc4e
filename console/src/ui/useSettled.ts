import { useEffect, useState } from 'react'

/** A text, or what is typed into a form, as it was when nobody had typed for a moment. */
export function useSettled<T>(text: T) {
  const [settled, setSettled] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), 250)
    return () => clearTimeout(timer)
  }, [text])
  return settled
}
