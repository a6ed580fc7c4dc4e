import { expect, test } from 'vitest'
import { addressOf, linesOf } from './urls'

test('notes and empty lines are not URLs', () => {
  expect(linesOf(' a.example \n\n# a note\nb.example/c\n')).toEqual(['a.example', 'b.example/c'])
})

test('what stands in the address comes back; what is too long does not stand there', () => {
  const urls = ['a.example/?q=1&r=%20', 'b.example/ä#x']
  expect(linesOf(addressOf(urls) ?? '')).toEqual(urls)
  expect(addressOf(Array.from({ length: 200 }, (_, i) => `https://site-${i}.example/page`))).toBeUndefined()
})
