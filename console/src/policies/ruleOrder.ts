/** The rules with one of them moved right above another; unchanged if either is gone. */
export function movedAbove<R extends { id?: string }>(rules: R[], id?: string, above?: string): R[] {
  const moved = rules.find((r) => r.id === id)
  const rest = rules.filter((r) => r !== moved)
  const to = rest.findIndex((r) => r.id === above)
  return moved && to >= 0 ? rest.toSpliced(to, 0, moved) : rules
}
