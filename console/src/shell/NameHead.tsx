/** The head of pages without the frame. */
export function NameHead() {
  return (
    <div className="flex items-center gap-3">
      <img src="/mark.svg" alt="" className="size-11" />
      <div>
        <h1 className="font-semibold text-xl leading-tight">Wide Lark</h1>
        <p className="text-soft">Know what your rules do, and why.</p>
      </div>
    </div>
  )
}
