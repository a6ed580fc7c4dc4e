/**
 * Does something after a mutation went well, also where the part that began it is gone by then, as the row of an entry that
 * was taken out. Where it failed, the mutation's own `error` tells.
 */
export function afterwards<T>(done: Promise<T>, then: (result: T) => void) {
  done.then(then, () => undefined)
}
