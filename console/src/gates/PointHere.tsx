import { Mono } from '../ui/Mono'
import type { Gate } from './gateQueries'

/** How curl, a browser and a system are pointed at the gates. */
export function PointHere({ gates }: { gates: Gate[] }) {
  const proxy = gates.find((g) => g.kind === 'proxy' && g.state !== 'silent' && g.address !== '')
  const names = gates.find((g) => g.kind === 'dns' && g.state !== 'silent' && g.address !== '')
  if (!proxy && !names) return null
  const at = `http://${proxy?.address}`
  return (
    <section aria-label="Try it yourself">
      <h2 className="pb-1 font-semibold">Try it yourself</h2>
      <dl className="grid grid-cols-[9rem_1fr] gap-x-4 gap-y-1 text-sm">
        {names && (
          <>
            <dt className="text-soft">One name</dt>
            <dd>
              <Mono>{digOf(names.address)}</Mono>
            </dd>
          </>
        )}
        {proxy && <ByProxy at={at} />}
      </dl>
    </section>
  )
}

/** The command that asks a DNS gate at an address with a port. */
function digOf(address: string) {
  const colon = address.lastIndexOf(':')
  return `dig -p ${address.slice(colon + 1)} @${address.slice(0, colon).replace(/[[\]]/g, '')} oddsfield.example`
}

function ByProxy({ at }: { at: string }) {
  return (
    <>
      <dt className="text-soft">One request</dt>
      <dd>
        <Mono>{`curl -x ${at} -U NAME http://oddsfield.example/`}</Mono>
      </dd>
      <dt className="text-soft">A browser</dt>
      <dd>
        automatic proxy configuration from <Mono>{`${at}/proxy.pac`}</Mono>
      </dd>
      <dt className="text-soft">A Linux system</dt>
      <dd>
        <Mono>{`export http_proxy=${at} https_proxy=${at}`}</Mono>
      </dd>
      <dt className="text-soft">Its authority</dt>
      <dd>
        <Mono>{`${at}/authority`}</Mono> says how clients come to trust it
      </dd>
    </>
  )
}
