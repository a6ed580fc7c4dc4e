import { api, data, type Schemas } from '../../api/client'

export type Explanation = Schemas['Explanation']

/** The most lines that one call explains. */
const most = 2000

/** The service's explanations of lines, fetched once for each line. */
export class Explanations {
  private readonly known = new Map<string, Explanation>()
  private readonly asked = new Set<string>()

  get(line: string) {
    return this.known.get(line.trim())
  }

  /** Fetches the explanations of unknown lines, and returns whether there were any. */
  async fetch(lines: Iterable<string>) {
    const wanted = new Set<string>()
    for (const line of lines) {
      const text = line.trim()
      if (text !== '' && !text.startsWith('#') && !this.asked.has(text)) wanted.add(text)
    }
    const all = [...wanted]
    for (const line of all) this.asked.add(line)
    for (let at = 0; at < all.length; at += most) {
      const part = all.slice(at, at + most)
      try {
        const answer = await explain(part, 'exact')
        answer.forEach((explanation, i) => {
          this.known.set(part[i] ?? '', explanation)
        })
      } catch (error) {
        for (const line of part) this.asked.delete(line)
        throw error
      }
    }
    return all.length > 0
  }
}

export const explain = async (lines: string[], reading: 'exact' | 'mending', catches = false, days?: 1 | 7 | 30 | 90) =>
  (await data(api.POST('/api/v1/entries/explain', { body: { lines, reading, catches, days } }))).explanations
