const numbers = new Intl.NumberFormat('en-GB')

export const formatNumber = (n: number) => numbers.format(n)

/** "1 entry", "2 entries". */
export const count = (n: number, one: string, many: string) => `${formatNumber(n)} ${n === 1 ? one : many}`
