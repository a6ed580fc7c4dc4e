import { useQuery } from '@tanstack/react-query'
import { Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import { Button } from '../ui/Button'
import { Check, TextArea, TextField } from '../ui/Field'
import { count } from '../ui/format'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { SaveDialog } from '../ui/SaveDialog'
import { useSettled } from '../ui/useSettled'
import { Hits } from '../usage/Hits'
import { useUsage } from '../usage/useUsage'
import { CategoryPicker } from './CategoryPicker'
import {
  categoriesOptions,
  type Score,
  type Scorecard,
  scorecardsOptions,
  scoreOptions,
  type Term,
  useDeleteScorecard,
  useSaveScorecard,
} from './categoryQueries'

const sample = 'Screening for breast cancer: what happens, with the bare facts and no shame.'

/** All scorecards, and a field that shows how a text scores. */
export function ScorecardsView() {
  const cards = useQuery(scorecardsOptions)
  const tree = useQuery(categoriesOptions())
  const [text, setText] = useState(sample)
  const scores = useQuery(scoreOptions(useSettled(text)))
  const [open, setOpen] = useState<Scorecard | 'new' | null>(null)
  const used = useUsage(
    'scorecard',
    useMemo(() => (cards.data?.scorecards ?? []).map((c) => c.id), [cards.data]),
  )
  if (cards.isPending) return <Loading what="the scorecards" />
  if (cards.error) return <ProblemNotice error={cards.error} retry={() => cards.refetch()} />
  const names = new Map(tree.data?.categories.map((c) => [c.key, c.name]))
  return (
    <div className="flex min-h-0 grow gap-8 overflow-y-auto pb-4">
      <section aria-label="Scorecards" className="flex w-[24rem] shrink-0 flex-col items-start gap-3">
        {cards.data.scorecards.length === 0 && (
          <EmptyNotice title="No scorecards">
            A scorecard gives words points. What reaches its threshold gets its category, and every word that counted is
            shown.
          </EmptyNotice>
        )}
        <ul className="w-full">
          {cards.data.scorecards.map((c) => (
            <li key={c.id} className="border-rule border-b py-2">
              <button
                type="button"
                onClick={() => setOpen(c)}
                className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
              >
                {c.name}
              </button>
              {c.off && <span className="ml-2 text-ochre text-sm">off</span>}
              <p className="text-sm text-soft">{c.about}</p>
              <p className="text-sm">
                {names.get(c.category) ?? c.category} from {count(c.threshold, 'point', 'points')} on ·{' '}
                {count(c.terms.length, 'word', 'words')}
              </p>
              <Hits said used={used?.get(c.id)} name={c.name} query={`category:${c.category}`} />
            </li>
          ))}
        </ul>
        <Button does="createScorecard" onClick={() => setOpen('new')}>
          <Plus size={16} aria-hidden /> New scorecard
        </Button>
      </section>
      <section aria-label="Try a text" className="flex min-w-0 grow flex-col gap-4">
        <TextArea
          label="Try a text"
          hint="The text of a page, or a URL. Nothing is kept."
          rows={4}
          className="font-sans!"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        {scores.error && <ProblemNotice error={scores.error} />}
        {scores.data?.isUrl && <p className="text-sm text-soft">Scored as a URL: over host, path and decoded query.</p>}
        {scores.data?.scores.map((s) => (
          <ScoreSum key={s.id} score={s} off={cards.data.scorecards.some((c) => c.id === s.id && c.off)} />
        ))}
      </section>
      {open && <ScorecardDialog card={open === 'new' ? undefined : open} onClose={() => setOpen(null)} />}
    </div>
  )
}

/** A score as a sum of points, with a bar that shows its distance from the threshold. */
export function ScoreSum({ score, off }: { score: Score; off?: boolean }) {
  const share = Math.min(100, Math.max(0, (100 * score.total) / score.threshold))
  return (
    <div className="flex flex-col gap-1">
      <p>
        <span className="font-semibold">{score.name}</span>
        {off && <span className="ml-2 text-ochre text-sm">off: it gives nothing</span>}
        <span className={score.reached ? 'ml-2 font-semibold text-clay' : 'ml-2 text-soft'}>
          {score.total < 0 && '−'}
          {Math.abs(score.total)} of {score.threshold}:{' '}
          {score.reached ? score.category.name || 'reached' : 'not reached'}
        </span>
      </p>
      <div aria-hidden className="h-1.5 w-full max-w-md bg-wash">
        <div className={score.reached ? 'h-full bg-clay' : 'h-full bg-edge'} style={{ width: `${share}%` }} />
      </div>
      {score.terms.length === 0 ? (
        <p className="text-sm text-soft">None of its words is there.</p>
      ) : (
        <ul className="flex flex-wrap gap-x-4 text-sm">
          {score.terms.map((t) => (
            <li key={t.word}>
              <span className="mono">{t.word}</span>{' '}
              <span className={t.points < 0 ? 'text-reed' : 'text-clay'}>
                {t.points > 0 ? '+' : '−'}
                {Math.abs(t.points)}
              </span>
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}

/** Reads lines such as "breast* 50" or "cancer -100". */
function readTerms(text: string): Term[] | string {
  const terms: Term[] = []
  for (const [i, line] of text.split('\n').entries()) {
    if (line.trim() === '') continue
    const parts = /^(.+?)[\s,;]+([+−-]?\d+)\s*$/.exec(line.trim())
    if (!parts) return `line ${i + 1}: a word and its points are wanted, as "cancer -100"`
    terms.push({ word: (parts[1] ?? '').trim(), points: Number((parts[2] ?? '').replace('−', '-')) })
  }
  return terms
}

function ScorecardDialog({ card, onClose }: { card?: Scorecard; onClose: () => void }) {
  const [form, setForm] = useState({
    name: card?.name ?? '',
    about: card?.about ?? '',
    category: card ? [card.category] : [],
    threshold: card?.threshold ?? 100,
    off: card?.off ?? false,
    words: card?.terms.map((t) => `${t.word} ${t.points}`).join('\n') ?? '',
  })
  const save = useSaveScorecard(card)
  const remove = useDeleteScorecard()
  const terms = readTerms(form.words)
  return (
    <SaveDialog
      title={card ? `Edit ${card.name}` : 'New scorecard'}
      does="editScorecard"
      description="A word counts once, however often it stands there. Points below nothing speak against the category."
      action="Save"
      ready={form.name.trim() !== '' && form.category.length > 0 && typeof terms !== 'string' && terms.length > 0}
      save={() => {
        const { name, about, threshold, off } = form
        return save.mutateAsync({
          name,
          about,
          threshold,
          off,
          category: form.category[0] ?? '',
          terms: typeof terms === 'string' ? [] : terms,
        })
      }}
      told={(saved) => `Saved ${saved.name}.`}
      remove={card && { thing: card, by: remove }}
      onClose={onClose}
    >
      {() => (
        <>
          <TextField label="Name" value={form.name} onChange={(e) => setForm({ ...form, name: e.target.value })} />
          <TextField
            label="What it is for"
            value={form.about}
            onChange={(e) => setForm({ ...form, about: e.target.value })}
          />
          <CategoryPicker
            label="It gives"
            single
            chosen={form.category}
            onChange={(category) => setForm({ ...form, category })}
          />
          <TextField
            label="From how many points on"
            type="number"
            min={1}
            max={10_000}
            value={form.threshold}
            onChange={(e) => setForm({ ...form, threshold: Number(e.target.value) })}
          />
          <TextArea
            label="Words and points, one word a line"
            hint="Whole words unless a star says otherwise: breast* 50, adults only 60, cancer -100"
            rows={8}
            spellCheck={false}
            value={form.words}
            onChange={(e) => setForm({ ...form, words: e.target.value })}
            error={typeof terms === 'string' ? terms : undefined}
          />
          <Check
            label="Off: keep it, but let it give nothing"
            checked={form.off}
            onChange={(off) => setForm({ ...form, off })}
          />
        </>
      )}
    </SaveDialog>
  )
}
