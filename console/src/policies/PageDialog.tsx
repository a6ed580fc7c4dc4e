import { useQuery } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Button } from '../ui/Button'
import { Choice, TextArea, TextField } from '../ui/Field'
import { ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { useSettled } from '../ui/useSettled'
import { ViewButtons } from '../ui/ViewButtons'
import { type Page, type Policy, pagePreviewOptions, usePutPolicy } from './policyQueries'

type Words = { title?: string; text?: string; contact?: string }

/** The languages in which pages speak by themselves; a policy can say something in any. */
const offered: Record<string, string> = { de: 'German', es: 'Spanish', fr: 'French', pl: 'Polish' }

const fallbackLogo = 'The logo of the fallback, if it has one'

/** Edits what a policy says on the pages that people see in place of what is refused, and shows such a page. */
export function PageDialog({ policy, onClose }: { policy: Policy; onClose: () => void }) {
  const [page, setPage] = useState<Page>(policy.page ?? {})
  const [language, setLanguage] = useState('')
  const put = usePutPolicy()
  const words: Words = language ? (page.languages?.find((w) => w.language === language) ?? {}) : page
  const say = (change: Words) => {
    if (!language) return setPage({ ...page, ...change })
    const others = page.languages?.filter((w) => w.language !== language) ?? []
    const next = { ...words, ...change, language }
    const said = next.title || next.text || next.contact
    setPage({ ...page, languages: said ? [...others, next] : others })
  }
  const extra = (page.languages ?? []).map((w) => w.language).filter((tag) => !(tag in offered))
  return (
    <SaveDialog
      title={`Pages of ${policy.name}`}
      does="putPolicy"
      description="What people see in place of what this policy refuses."
      wide
      action="Save"
      ready
      save={() => put.mutateAsync({ policy, change: { page } })}
      told={(saved) => `Saved the pages of ${saved.name}.`}
      onClose={onClose}
    >
      {(wrong) => {
        const at = page.languages?.findIndex((w) => w.language === language) ?? -1
        const field = (name: string) => wrong(language ? `page.languages[${at}].${name}` : `page.${name}`)
        return (
          <div className="grid gap-5 md:grid-cols-[17rem_minmax(0,1fr)]">
            <div className="flex flex-col gap-3">
              <Choice
                label="Said to"
                value={language}
                onChange={setLanguage}
                options={[
                  ['', 'everybody'],
                  ...Object.entries(offered).map(([tag, name]): [string, string] => [tag, `who reads ${name}`]),
                  ...extra.map((tag): [string, string] => [tag, `who reads ${tag}`]),
                ]}
              />
              <TextField
                label="Title"
                value={words.title ?? ''}
                placeholder={language ? (page.title ?? '') : 'This page is not allowed here'}
                onChange={(e) => say({ title: e.target.value })}
                error={field('title')}
              />
              <TextArea
                label="Text"
                rows={4}
                value={words.text ?? ''}
                placeholder={language ? (page.text ?? '') : ''}
                className="font-sans"
                onChange={(e) => say({ text: e.target.value })}
                error={field('text')}
              />
              <TextField
                label="Whom to ask"
                value={words.contact ?? ''}
                placeholder={(language && page.contact) || 'the help desk'}
                onChange={(e) => say({ contact: e.target.value })}
                error={field('contact')}
              />
              <LogoField logo={page.logo} onChange={(logo) => setPage({ ...page, logo })} error={wrong('page.logo')} />
              <TextField
                label="Or lead blocked pages to"
                value={page.redirect ?? ''}
                placeholder="https://intranet.example/refused"
                onChange={(e) => setPage({ ...page, redirect: e.target.value })}
                error={wrong('page.redirect')}
              />
            </div>
            <Preview page={page} language={language} />
          </div>
        )
      }}
    </SaveDialog>
  )
}

type LogoProps = { logo?: string; onChange: (logo: string | undefined) => void; error?: string }

function LogoField({ logo, onChange, error }: LogoProps) {
  const input = useRef<HTMLInputElement>(null)
  const take = (file?: File) => {
    if (!file) return
    const reader = new FileReader()
    reader.onload = () => onChange(String(reader.result))
    reader.readAsDataURL(file)
  }
  return (
    <div className="flex flex-col gap-1">
      <span className="font-semibold text-sm">Logo</span>
      <div className="flex items-center gap-2">
        <input
          ref={input}
          type="file"
          aria-label="Logo"
          accept="image/png,image/jpeg,image/gif,image/webp,image/svg+xml"
          className="sr-only"
          tabIndex={-1}
          onChange={(e) => take(e.target.files?.[0])}
        />
        <Button onClick={() => input.current?.click()}>{logo ? 'Another picture' : 'Choose a picture'}</Button>
        {logo && <Button onClick={() => onChange(undefined)}>None</Button>}
      </div>
      <p className={error ? 'text-clay text-sm' : 'text-sm text-soft'}>
        {error ?? (logo ? 'It is part of the page, 6 kB at most.' : `${fallbackLogo}. 6 kB at most.`)}
      </p>
    </div>
  )
}

/** How wide pages are shown, in CSS pixels, and by how much smaller. */
const widths = { desktop: { px: 1210, scale: 0.462 }, phone: { px: 380, scale: 0.72 } }
const shownHeight = 430

function Preview({ page, language }: { page: Page; language: string }) {
  const [width, setWidth] = useState<keyof typeof widths>('desktop')
  const [kind, setKind] = useState<'blocked' | 'held'>('blocked')
  const preview = useQuery(pagePreviewOptions(useSettled(page), language, kind === 'held'))
  const { px, scale } = widths[width]
  return (
    <div className="flex min-w-0 flex-col gap-3">
      <ViewButtons names={{ desktop: 'Desktop', phone: 'Phone' }} chosen={width} onChoose={setWidth}>
        <span className="ml-auto flex gap-4">
          <Kind now={kind} is="blocked" choose={setKind} />
          <Kind now={kind} is="held" choose={setKind} />
        </span>
      </ViewButtons>
      {preview.error && <ProblemNotice error={preview.error} />}
      <div className="mx-auto overflow-hidden border border-rule" style={{ width: px * scale, maxWidth: '100%' }}>
        <div style={{ height: shownHeight }}>
          <iframe
            title="The page as people see it"
            sandbox=""
            srcDoc={preview.data?.html ?? ''}
            className="origin-top-left"
            style={{ width: px, height: shownHeight / scale, transform: `scale(${scale})`, border: 0 }}
          />
        </div>
      </div>
      {preview.data && (
        <p className="text-sm text-soft">
          {preview.data.bytes.toLocaleString('en')} bytes, with everything in it. The request is made up.
        </p>
      )}
    </div>
  )
}

type KindProps = { now: string; is: 'blocked' | 'held'; choose: (kind: 'blocked' | 'held') => void }

function Kind({ now, is, choose }: KindProps) {
  return (
    <label className="flex items-baseline gap-1.5 text-sm">
      <input type="radio" name="page-kind" checked={now === is} onChange={() => choose(is)} className="accent-reed" />
      {is}
    </label>
  )
}
