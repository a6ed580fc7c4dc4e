import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { formatEnd, formatMoment } from '../ui/clock'
import { Mono } from '../ui/Mono'
import { Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head } from '../ui/Table'
import { CodeDialog } from './CodeDialog'
import { type Code, codesOptions, type Passage, useEndCode, useEndPassage } from './codeQueries'

type Props = { filter: string; making: boolean; onMade: () => void }

/** Codes that open held pages, and who has come past a hold. */
export function CodesView({ filter, making, onMade }: Props) {
  const all = useQuery(codesOptions)
  const [made, setMade] = useState<Code>()
  const has = (text: string) => text.toLowerCase().includes(filter.toLowerCase())
  const codes = all.data?.codes.filter((c) => has(`${c.name} ${c.reason} ${c.madeBy}`)) ?? []
  const passages = all.data?.passages.filter((p) => has(`${p.entries} ${whoPassed(p)} ${p.reference}`)) ?? []
  return (
    <>
      {all.isPending && <Loading what="the codes" />}
      {all.error && <ProblemNotice error={all.error} retry={() => all.refetch()} />}
      {made && (
        <section aria-label="The new code" className="mt-3 border-reed border-l-4 bg-reed-wash px-4 py-3">
          <p className="mono text-xl">{made.text}</p>
          <p>
            It opens {made.name} for {made.minutes} minutes. Pass it on now: it is not shown again.
          </p>
        </section>
      )}
      {all.data && (
        <>
          <h2 className="pt-4 pb-1 font-semibold">Codes that can be entered</h2>
          {codes.length === 0 ? (
            <p className="text-soft">
              {filter
                ? 'None match.'
                : 'None. Rules that hold pages may ask for a code, which the help desk makes here.'}
            </p>
          ) : (
            <table className="w-full border-collapse">
              <thead>
                <tr>
                  <Head className="w-[30%]">Opens</Head>
                  <Head>For</Head>
                  <Head>Entered</Head>
                  <Head>Until</Head>
                  <Head>Why</Head>
                  <Head className="w-20">
                    <span className="sr-only">Do</span>
                  </Head>
                </tr>
              </thead>
              <tbody>
                {codes.map((c) => (
                  <CodeRow key={c.id} code={c} />
                ))}
              </tbody>
            </table>
          )}
          <h2 className="pt-6 pb-1 font-semibold">Past a hold now</h2>
          {passages.length === 0 ? (
            <p className="text-soft">
              {filter ? 'None match.' : 'Nobody has acknowledged a held page or opened one with a code.'}
            </p>
          ) : (
            <table className="w-full border-collapse">
              <thead>
                <tr>
                  <Head className="w-[30%]">Open</Head>
                  <Head>To</Head>
                  <Head>How</Head>
                  <Head>Since</Head>
                  <Head>Until</Head>
                  <Head className="w-20">
                    <span className="sr-only">Do</span>
                  </Head>
                </tr>
              </thead>
              <tbody>
                {passages.map((p) => (
                  <PassageRow key={p.id} passage={p} />
                ))}
              </tbody>
            </table>
          )}
        </>
      )}
      {making && <CodeDialog onMade={setMade} onClose={onMade} />}
    </>
  )
}

const whoPassed = (p: Passage) => p.person?.name || p.address || 'somebody unknown'

function CodeRow({ code: c }: { code: Code }) {
  const end = useEndCode()
  const announce = useAnnounce()
  return (
    <tr className="hover:bg-wash">
      <td className={`${cellClass} break-all`}>
        {c.entries ? <Mono>{c.name}</Mono> : <span>{c.name}</span>}
        {c.for && (
          <p className="text-sm text-soft">
            for {[...(c.for.persons ?? []), ...(c.for.groups ?? [])].map((r) => r.name).join(', ')}
          </p>
        )}
        {end.error && <ProblemNotice error={end.error} />}
      </td>
      <td className={cellClass}>{c.minutes} min</td>
      <td className={cellClass}>
        {c.used} of {c.uses}
      </td>
      <td className={cellClass}>{formatEnd(c.until)}</td>
      <td className={cellClass}>
        {c.reason}
        <p className="text-sm text-soft">{c.madeBy}</p>
      </td>
      <td className={cellClass}>
        <Button
          does="endCode"
          aria-label={`End the code for ${c.reason}`}
          onClick={() => afterwards(end.mutateAsync(c.id), () => announce('The code has ended.'))}
        >
          End
        </Button>
      </td>
    </tr>
  )
}

function PassageRow({ passage: p }: { passage: Passage }) {
  const end = useEndPassage()
  const announce = useAnnounce()
  return (
    <tr className="hover:bg-wash">
      <td className={`${cellClass} break-all`}>
        <Mono>{p.entries.join(', ')}</Mono>
        {end.error && <ProblemNotice error={end.error} />}
      </td>
      <td className={cellClass}>{whoPassed(p)}</td>
      <td className={cellClass}>{p.how === 'code' ? 'with a code' : 'acknowledged'}</td>
      <td className={cellClass}>{formatMoment(p.from)}</td>
      <td className={cellClass}>{formatMoment(p.until)}</td>
      <td className={cellClass}>
        <Button
          does="endPassage"
          aria-label={`End ${p.entries.join(', ')} for ${whoPassed(p)}`}
          onClick={() => afterwards(end.mutateAsync(p.id), () => announce('It is held again.'))}
        >
          End
        </Button>
      </td>
    </tr>
  )
}
