import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { schedulesOptions } from '../schedules/scheduleQueries'
import { Check, Choice, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { useSettled } from '../ui/useSettled'
import { ConditionEditor } from './ConditionEditor'
import { emptyOf } from './condition'
import { explainRulesOptions, type Rule } from './policyQueries'

type Props = {
  rule?: Rule
  baseline?: boolean
  onSave: (rule: Rule) => Promise<unknown>
  onClose: () => void
}

const thens: [Rule['then'], string][] = [
  ['allow', '○ Allow'],
  ['watch', '◐ Allow and flag'],
  ['hold', '◇ Hold until it is unlocked'],
  ['block', '■ Block'],
  ['note', 'Note it, and go on'],
]

/** Creates or edits a rule, and shows it as a sentence meanwhile. */
export function RuleDialog({ rule, baseline, onSave, onClose }: Props) {
  const [form, setForm] = useState<Rule>(rule ?? { name: '', then: 'block', if: emptyOf('categories') })
  const schedules = useQuery(schedulesOptions)
  const settled = useSettled(form)
  const explained = useQuery(explainRulesOptions([{ ...settled, name: settled.name || 'x' }]))
  const wrong = explained.data?.problems[0]
  const allows = form.then === 'allow' || form.then === 'watch' || form.then === 'hold'
  const when = form.when
  const first = when?.schedule ?? schedules.data?.[0]
  return (
    <SaveDialog
      title={rule ? `Rule: ${rule.name}` : 'New rule'}
      does="putPolicy"
      description={wrong ? <span className="text-ochre">{wrong}</span> : (explained.data?.sentences[0] ?? '…')}
      wide
      action={rule ? 'Save' : 'Add the rule'}
      ready={form.name.trim() !== '' && wrong === ''}
      save={() =>
        onSave({ ...form, with: allows ? form.with : undefined, leave: form.then === 'hold' ? form.leave : undefined })
      }
      told={() => `Saved ${form.name}.`}
      onClose={onClose}
    >
      {() => (
        <>
          <div className="grid grid-cols-[3fr_2fr] gap-6">
            <div className="flex flex-col gap-4">
              <TextField
                label="Name"
                value={form.name}
                onChange={(e) => setForm({ ...form, name: e.target.value })}
                autoFocus
              />
              <Check
                label="Every request, without a condition"
                checked={form.if === undefined}
                onChange={(on) => setForm({ ...form, if: on ? undefined : emptyOf('categories') })}
              />
              {form.if && <ConditionEditor condition={form.if} onChange={(c) => setForm({ ...form, if: c })} />}
            </div>
            <div className="flex flex-col gap-4">
              <Choice
                label="Then"
                value={form.then}
                onChange={(v) => setForm({ ...form, then: v as Rule['then'] })}
                options={thens.filter(([v]) => !baseline || v === 'allow' || v === 'block' || v === 'note')}
              />
              <Choice
                label="When"
                value={when ? (when.outside ? 'outside' : 'in') : ''}
                onChange={(v) => {
                  const when = first && v !== '' ? { schedule: { id: first.id }, outside: v === 'outside' } : undefined
                  setForm({ ...form, when })
                }}
                options={[
                  ['', schedules.data?.length === 0 ? 'Always (there is no schedule yet)' : 'Always'],
                  ...(first
                    ? ([
                        ['in', 'In a schedule'],
                        ['outside', 'Outside a schedule'],
                      ] as [string, string][])
                    : []),
                ]}
              />
              {when && (
                <Choice
                  label="Schedule"
                  value={when.schedule.id}
                  onChange={(id) => setForm({ ...form, when: { ...when, schedule: { id } } })}
                  options={(schedules.data ?? []).map((s): [string, string] => [s.id, s.name])}
                />
              )}
              {form.then === 'hold' && (
                <div className="grid grid-cols-[2fr_1fr] gap-3">
                  <Choice
                    label="People come past it"
                    value={form.leave?.by ?? 'acknowledging'}
                    onChange={(by) =>
                      setForm({ ...form, leave: { ...form.leave, by: by as 'acknowledging' | 'code' } })
                    }
                    options={[
                      ['acknowledging', 'by reading why, and going on'],
                      ['code', 'with a code of the help desk'],
                    ]}
                  />
                  {form.leave?.by !== 'code' && (
                    <TextField
                      label="Minutes"
                      type="number"
                      min={1}
                      max={1440}
                      placeholder="60"
                      value={form.leave?.minutes ?? ''}
                      onChange={(e) =>
                        setForm({
                          ...form,
                          leave: { by: 'acknowledging', minutes: Number(e.target.value) || undefined },
                        })
                      }
                    />
                  )}
                </div>
              )}
              {allows && (
                <fieldset className="flex flex-col gap-1.5">
                  <legend className="pb-1 font-semibold text-sm">With</legend>
                  <Check
                    label="safe search"
                    checked={form.with?.safeSearch ?? false}
                    onChange={(safeSearch) => setForm({ ...form, with: { ...form.with, safeSearch } })}
                  />
                  <Check
                    label="no uploads"
                    checked={form.with?.noUploads ?? false}
                    onChange={(noUploads) => setForm({ ...form, with: { ...form.with, noUploads } })}
                  />
                  <div className="grid grid-cols-2 gap-3">
                    <TextField
                      label="MB at most"
                      type="number"
                      min={0}
                      value={form.with?.maxBytes ? form.with.maxBytes / 1e6 : ''}
                      onChange={(e) =>
                        setForm({
                          ...form,
                          with: { ...form.with, maxBytes: Number(e.target.value) * 1e6 || undefined },
                        })
                      }
                    />
                    <TextField
                      label="Minutes a day"
                      type="number"
                      min={0}
                      value={form.with?.minutesADay ?? ''}
                      onChange={(e) =>
                        setForm({ ...form, with: { ...form.with, minutesADay: Number(e.target.value) || undefined } })
                      }
                    />
                  </div>
                </fieldset>
              )}
              <fieldset className="flex gap-4">
                <legend className="pb-1 font-semibold text-sm">Only at these gates (none: at all)</legend>
                {(['dns', 'proxy', 'icap'] as const).map((gate) => (
                  <Check
                    key={gate}
                    label={gate === 'proxy' ? 'proxy' : gate.toUpperCase()}
                    checked={form.at?.includes(gate) ?? false}
                    onChange={(on) => {
                      const at = on ? [...(form.at ?? []), gate] : (form.at ?? []).filter((g) => g !== gate)
                      setForm({ ...form, at: at.length > 0 ? at : undefined })
                    }}
                  />
                ))}
              </fieldset>
              <Check
                label="Switched off"
                checked={form.off ?? false}
                onChange={(off) => setForm({ ...form, off: off || undefined })}
              />
            </div>
          </div>
        </>
      )}
    </SaveDialog>
  )
}
