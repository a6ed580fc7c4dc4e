import { useEffect, useState } from 'react'

/** A text as it was when nobody had typed for a moment. */
export function useSettled(text: string) {
  const [settled, setSettled] = useState(text)
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), 250)
    return () => clearTimeout(timer)
  }, [text])
  return settled
}
