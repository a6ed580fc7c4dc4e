import { api, data, type Schemas } from '../../api/client'

export type Explanation = Schemas['Explanation']

/** How many lines one call explains. */
const most = 2000

/** What the service says about lines, asked for once each. */
export class Explanations {
  private readonly known = new Map<string, Explanation>()
  private readonly asked = new Set<string>()

  get(line: string) {
    return this.known.get(line.trim())
  }

  /** Asks for lines that are not known, and says whether anything came. */
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

export const explain = async (lines: string[], reading: 'exact' | 'mending', catches = false) =>
  (await data(api.POST('/api/v1/entries/explain', { body: { lines, reading, catches } }))).explanations
