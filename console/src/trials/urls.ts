/** The URLs of a text, one a line; lines that begin with # are notes. */
export const linesOf = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter((line) => line !== '' && !line.startsWith('#'))

/** As long as the part of an address may be that browsers, mail programs and chats hand on unharmed. */
const longest = 1500

/** URLs as they stand in the address of the page; undefined where they are too many for it. */
export function addressOf(urls: string[]): string | undefined {
  const text = urls.join('\n')
  return encodeURIComponent(text).length <= longest ? text : undefined
}
