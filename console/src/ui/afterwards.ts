/**
 * Calls a function after a mutation succeeded, even if the component that started it is gone by then, such as the row of an entry that
 * was removed. If the mutation failed, its `error` shows it.
 */
export function afterwards<T>(done: Promise<T>, then: (result: T) => void) {
  done.then(then, () => undefined)
}
