import { useQuery } from '@tanstack/react-query'
import { Plus, X } from 'lucide-react'
import { CategoryPicker } from '../categories/CategoryPicker'
import { scorecardsOptions } from '../categories/categoryQueries'
import { listsOptions } from '../lists/listQueries'
import { Button, IconButton } from '../ui/Button'
import { Check, Choice, TextField } from '../ui/Field'
import { RefPicker } from '../ui/RefPicker'
import { isJoint, type Kind, kindOf, reshaped } from './condition'
import { appsOptions, type Condition } from './policyQueries'

const joints: [Kind, string][] = [
  ['all', 'All of these'],
  ['any', 'Any of these'],
  ['none', 'None of these'],
]

const leaves: [Kind, string][] = [
  ['lists', 'It is in a list'],
  ['categories', 'It has a category'],
  ['apps', 'It belongs to an app'],
  ['traits', 'It has a trait'],
  ['methods', 'It is sent by a method'],
  ['files', 'It asks for a kind of files'],
  ['search', 'It searches for words'],
  ['score', 'A scorecard is reached'],
]

const traits: [string, string][] = [
  ['raw-address', 'the host is a bare address'],
  ['plain-http', 'plain HTTP'],
  ['unrated', 'nothing says what it is'],
  ['odd-port', 'an unusual port'],
  ['user-info', 'a user name in the URL'],
  ['punycode', 'a host in another script'],
  ['two-names', 'two hosts named on one connection'],
  ['not-tls', 'something else than TLS in a tunnel'],
]

const files: [string, string][] = [
  ['archives', 'archives'],
  ['programs', 'programs'],
  ['documents', 'documents'],
  ['macros', 'documents with macros'],
  ['pictures', 'pictures'],
  ['sound', 'sound'],
  ['film', 'film'],
  ['disks', 'images of disks'],
]

type Props = { condition: Condition; onChange: (c: Condition) => void; onRemove?: () => void; label?: string }

/** The word before a part of a compound condition; none before the first. */
const joiners = { all: 'and', any: 'or', none: 'nor' }

/** An editor for a tree of conditions: all, any or none of others, or a condition on the request. */
export function ConditionEditor({ condition, onChange, onRemove, label = 'If' }: Props) {
  const kind = kindOf(condition)
  const parts = isJoint(kind) ? (condition[kind] ?? []) : []
  const setParts = (to: Condition[]) => onChange({ [kind]: to } as Condition)
  return (
    <div className="flex flex-col gap-2 border-rule border-l-2 pl-3">
      <div className="flex items-end gap-2">
        <Choice
          label={label}
          value={kind}
          onChange={(k) => onChange(reshaped(condition, k as Kind))}
          options={[...joints, ...leaves]}
        />
        {onRemove && (
          <IconButton label="Take this condition out" onClick={onRemove} className="mb-0.5">
            <X size={15} aria-hidden />
          </IconButton>
        )}
      </div>
      {isJoint(kind) ? (
        <>
          {parts.map((part, i) => (
            <ConditionEditor
              // biome-ignore lint/suspicious/noArrayIndexKey: conditions have no other identity than their place
              key={i}
              condition={part}
              label={i === 0 || !isJoint(kind) ? 'that' : joiners[kind]}
              onChange={(to) => setParts(parts.map((p, at) => (at === i ? to : p)))}
              onRemove={() => setParts(parts.filter((_, at) => at !== i))}
            />
          ))}
          <Button look="quiet" className="self-start" onClick={() => setParts([...parts, { categories: [] }])}>
            <Plus size={14} aria-hidden /> Another condition
          </Button>
        </>
      ) : (
        <Leaf condition={condition} onChange={onChange} />
      )}
    </div>
  )
}

/** The fields of one condition. */
function Leaf({ condition: c, onChange }: { condition: Condition; onChange: (c: Condition) => void }) {
  const lists = useQuery(listsOptions)
  const apps = useQuery({ ...appsOptions, enabled: c.apps !== undefined })
  const cards = useQuery({ ...scorecardsOptions, enabled: c.score !== undefined })
  const toggled = (all: string[], value: string, on: boolean) => (on ? [...all, value] : all.filter((v) => v !== value))
  if (c.lists) {
    return (
      <RefPicker label="Lists" chosen={c.lists} offered={lists.data ?? []} onChange={(l) => onChange({ lists: l })} />
    )
  }
  if (c.categories) {
    return (
      <CategoryPicker
        label="Categories and families"
        families
        chosen={c.categories}
        onChange={(categories) => onChange({ categories })}
      />
    )
  }
  if (c.traits) {
    return (
      <div className="flex flex-col gap-1">
        {traits.map(([value, name]) => (
          <Check
            key={value}
            label={name}
            checked={c.traits?.some((t) => t === value) ?? false}
            onChange={(on) => onChange({ traits: toggled(c.traits ?? [], value, on) as Condition['traits'] })}
          />
        ))}
      </div>
    )
  }
  if (c.files) {
    return (
      <div className="grid grid-cols-2 gap-1">
        {files.map(([value, name]) => (
          <Check
            key={value}
            label={name}
            checked={c.files?.includes(value) ?? false}
            onChange={(on) => onChange({ files: toggled(c.files ?? [], value, on) })}
          />
        ))}
      </div>
    )
  }
  if (c.apps) {
    const offered = (apps.data ?? []).flatMap((a) => [
      { id: a.key ?? '', name: a.name },
      ...a.activities.map((act) => ({ id: `${a.key}/${act.key}`, name: `${a.name}: ${act.name}` })),
    ])
    return (
      <RefPicker
        label="Apps, and what is done with them"
        chosen={c.apps.map((key) => ({ id: key, name: offered.find((o) => o.id === key)?.name ?? key }))}
        offered={offered}
        onChange={(chosen) => onChange({ apps: chosen.map((a) => a.id) })}
      />
    )
  }
  if (c.methods) {
    return (
      <div className="flex gap-4">
        {['GET', 'POST', 'PUT', 'PATCH', 'DELETE', 'CONNECT'].map((m) => (
          <Check
            key={m}
            label={m}
            checked={c.methods?.includes(m) ?? false}
            onChange={(on) => onChange({ methods: toggled(c.methods ?? [], m, on) })}
          />
        ))}
      </div>
    )
  }
  if (c.search) {
    return (
      <TextField
        label="Words, with commas between them"
        value={c.search.map((w) => w.replace(/^"|"$/g, '')).join(', ')}
        onChange={(e) =>
          onChange({ search: e.target.value === '' ? [] : e.target.value.split(',').map((w) => w.trimStart()) })
        }
        hint="Whole words; bet* a word beginning so"
      />
    )
  }
  if (c.score) {
    const { score } = c
    return (
      <div className="grid grid-cols-2 gap-3">
        <Choice
          label="Scorecard"
          value={score.scorecard.id}
          onChange={(id) => onChange({ score: { ...score, scorecard: { id } } })}
          options={[['', 'Choose one'], ...(cards.data?.scorecards ?? []).map((s): [string, string] => [s.id, s.name])]}
        />
        <TextField
          label="From so many points on"
          type="number"
          value={score.atLeast ?? ''}
          placeholder="its threshold"
          onChange={(e) => onChange({ score: { ...score, atLeast: Number(e.target.value) || undefined } })}
        />
      </div>
    )
  }
  return null
}
