import type { Segment } from '../ui/Strip'

/** One row of a day plan: lists and categories with the same verdicts. */
export type Row = { name: string; kind: string; strip: Segment[] }

/**
 * The rows of a day plan: everything else, and the lists and categories with other verdicts; those with the same verdicts at every moment share
 * a row. Rows that change over time come first, as people look for them.
 */
export function planRows(others: Segment[], named: { kind: string; name: string; strip: Segment[] }[]): Row[] {
  const rows: Row[] = [{ name: 'Everything else', kind: 'else', strip: others }]
  const alike = new Map<string, Row>()
  for (const r of named) {
    const key = r.strip.map((s) => `${s.from} ${s.verdict}`).join()
    const name = r.kind === 'list' ? `"${r.name}"` : r.name
    const before = alike.get(key)
    if (before) {
      before.name += `, ${name}`
    } else {
      const row = { name, kind: r.kind, strip: r.strip }
      alike.set(key, row)
      rows.push(row)
    }
  }
  return rows.sort((a, b) => Number(b.strip.length > 1) - Number(a.strip.length > 1))
}
