import type { Pack } from './packQueries'

/** The standing of a pack, in a word with its colour. */
export function Standing({ pack }: { pack: Pack }) {
  if (pack.progress) return <span className="font-semibold text-ochre">{pack.progress.stage}…</span>
  if (pack.waiting) return <span className="font-semibold text-ochre">an update waits</span>
  if (pack.result === 'refused' || pack.result === 'failed') {
    return <span className="font-semibold text-clay">last pull {pack.result}</span>
  }
  if (!pack.inForce) return <span className="text-soft">empty</span>
  return <span className="text-reed">in force</span>
}
