/** The ways of clients to the gates, with their names. */
export const ways: [string, string][] = [
  ['proxy', 'the proxy gate alone'],
  ['dns,proxy', 'the DNS gate, then the proxy gate'],
  ['dns', 'the DNS gate alone'],
  ['icap', 'another proxy, which asks the ICAP gate'],
]

/** Returns a way in words. */
export const wayName = (way: string) => ways.find(([key]) => key === way)?.[1] ?? 'no gate'
