import type { Place } from './PlaceChoice'

/** Entries that a URL may stand for, the narrowest first: this page, its folder, this host, the site. */
export function placesOf(url: string): Place[] {
  const { hostname, pathname } = new URL(url)
  const path = pathname.replace(/\/$/, '')
  const isAddress = /^[\d.]+$|^\[/.test(hostname)
  const places: Place[] = []
  if (path !== '') {
    if (!isAddress) places.push({ entry: `=${hostname}${path}`, meaning: 'this page only' })
    const folders = path.split('/').length - 1
    if (!isAddress) {
      places.push({ entry: `${hostname}${path}`, meaning: 'this page and all below it' })
      if (folders > 1) {
        places.push({
          entry: `${hostname}${path.slice(0, path.lastIndexOf('/'))}`,
          meaning: 'the folder that it is in',
        })
      }
    }
  }
  if (isAddress) return [{ entry: hostname, meaning: 'this address' }]
  places.push({ entry: `=${hostname}`, meaning: 'this host only' })
  places.push({ entry: hostname, meaning: 'this host and all below it' })
  return places
}
