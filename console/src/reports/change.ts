/** How a number differs from the one before; empty where both are 0. */
export function changeOf(now: number, before: number): string {
  if (now === 0 && before === 0) return ''
  if (before === 0) return 'new'
  const share = Math.round((100 * (now - before)) / before)
  if (share === 0) return '±0 %'
  return `${share > 0 ? '+' : '−'}${Math.abs(share)} %`
}
