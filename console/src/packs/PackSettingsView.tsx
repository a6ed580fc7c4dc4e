import { useQuery } from '@tanstack/react-query'
import { useNavigate } from '@tanstack/react-router'
import { type FormEvent, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button } from '../ui/Button'
import { Choice } from '../ui/Field'
import { fieldProblems } from '../ui/fieldProblems'
import { ProblemNotice } from '../ui/Notice'
import { packForm, SettingsFields } from './PackSettings'
import { type Pack, packsOptions, useDeletePack, useEditPack } from './packQueries'

export function SettingsView({ pack }: { pack: Pack }) {
  const [form, setForm] = useState(packForm(pack))
  const [sure, setSure] = useState(false)
  const packs = useQuery(packsOptions)
  const edit = useEditPack(pack.id)
  const remove = useDeletePack(pack.id)
  const { wrong, others } = fieldProblems(edit.error)
  const announce = useAnnounce()
  const navigate = useNavigate()
  const submit = (event: FormEvent) => {
    event.preventDefault()
    afterwards(edit.mutateAsync(form), () => announce('Saved.'))
  }
  return (
    <form onSubmit={submit} className="flex max-w-xl flex-col gap-4 overflow-y-auto pb-6">
      <SettingsFields form={form} setForm={setForm} name={wrong('name')} url={wrong('url')} />
      {others()}
      <Choice
        label="Rank"
        value={String(pack.rank)}
        onChange={(rank) => edit.mutate({ rank: Number(rank) })}
        options={(packs.data ?? []).map((p, i): [string, string] => [
          String(p.rank),
          i === 0 ? '1: asked first' : String(p.rank),
        ])}
      />
      <div className="flex gap-2">
        <Button type="submit" look="main" does="editPack" disabled={edit.isPending}>
          Save
        </Button>
        <span className="grow" />
        {sure ? (
          <>
            <Button onClick={() => setSure(false)}>Keep it</Button>
            <Button
              look="danger"
              onClick={() =>
                afterwards(remove.mutateAsync(), () => {
                  announce(`Took ${pack.name} out of the catalogue.`)
                  void navigate({ to: '/packs', search: (before) => ({ ...trialOf(before) }) })
                })
              }
            >
              Yes, with all its versions
            </Button>
          </>
        ) : (
          <Button look="danger" does="deletePack" onClick={() => setSure(true)}>
            Take it out of the catalogue
          </Button>
        )}
      </div>
      {remove.error && <ProblemNotice error={remove.error} />}
    </form>
  )
}
