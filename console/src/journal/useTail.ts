import { useEffect, useState } from 'react'
import type { JournalRecord } from './journalQueries'

const most = 500

export type Tail = { records: JournalRecord[]; connected: boolean; waiting: number }

/**
 * The records of a query as they come, the last first, for as long as follow is set. While paused, they wait. The browser connects again by itself, and the service
 * then sends what has come meanwhile.
 */
export function useTail(q: string, follow: boolean, paused: boolean): Tail {
  const [tail, setTail] = useState<{ shown: JournalRecord[]; held: JournalRecord[] }>({ shown: [], held: [] })
  const [connected, setConnected] = useState(false)
  useEffect(() => {
    setTail({ shown: [], held: [] })
    if (!follow) return
    const stream = new EventSource(`/api/v1/journal/tail?q=${encodeURIComponent(q)}`)
    stream.onopen = () => setConnected(true)
    stream.onerror = () => setConnected(false)
    stream.onmessage = (event) => {
      const come = (JSON.parse(event.data) as JournalRecord[]).reverse()
      if (come.length > 0) setTail((t) => ({ ...t, held: [...come, ...t.held].slice(0, most) }))
    }
    return () => {
      stream.close()
      setConnected(false)
    }
  }, [q, follow])
  const { shown, held } = tail
  useEffect(() => {
    if (!paused && held.length > 0) {
      setTail((t) => ({ shown: [...t.held, ...t.shown].slice(0, most), held: [] }))
    }
  }, [paused, held])
  return { records: shown, connected, waiting: held.length }
}
