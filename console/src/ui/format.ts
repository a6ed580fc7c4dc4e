const numbers = new Intl.NumberFormat('en-GB')
const moments = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'short' })

export const formatNumber = (n: number) => numbers.format(n)

export const formatMoment = (instant: string) => moments.format(new Date(instant))

/** "1 entry", "2 entries". */
export const count = (n: number, one: string, many: string) => `${formatNumber(n)} ${n === 1 ? one : many}`
