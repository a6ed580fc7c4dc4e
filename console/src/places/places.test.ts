import { expect, test } from 'vitest'
import { placesOf } from './places'

test.each([
  [
    'https://www.heron.example/wards/map?x=1',
    [
      '=www.heron.example/wards/map',
      'www.heron.example/wards/map',
      'www.heron.example/wards',
      '=www.heron.example',
      'www.heron.example',
    ],
  ],
  ['https://heron.example/wards/', ['=heron.example/wards', 'heron.example/wards', '=heron.example', 'heron.example']],
  ['http://heron.example/', ['=heron.example', 'heron.example']],
  ['http://203.0.113.7/x', ['203.0.113.7']],
])('%s may stand for', (url, entries) => {
  const places = placesOf(url)
  expect(places.map((p) => p.entry)).toEqual(entries)
  expect(new Set(places.map((p) => p.meaning)).size).toBe(places.length)
})
