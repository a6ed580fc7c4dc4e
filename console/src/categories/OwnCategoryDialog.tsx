import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { listsOptions } from '../lists/listQueries'
import { Check, Choice, TextField } from '../ui/Field'
import { SaveDialog } from '../ui/SaveDialog'
import { type Category, categoriesOptions, useSaveCategory } from './categoryQueries'

type Props = { category?: Category; onClose: () => void }

/** Creates or edits a category that is made of lists. */
export function OwnCategoryDialog({ category, onClose }: Props) {
  const lists = useQuery(listsOptions)
  const tree = useQuery(categoriesOptions())
  const [form, setForm] = useState({
    name: category?.name ?? '',
    about: category?.about ?? '',
    family: category?.family ?? '',
    lists: category?.own?.lists.map((l) => l.id) ?? [],
    adds: category?.own?.adds ?? false,
  })
  const save = useSaveCategory(category?.own)
  return (
    <SaveDialog
      title={category ? `Edit ${category.name}` : 'Category of our own'}
      does="editCategory"
      description="What is in its lists is in the category, as soon as it stands there."
      action={category ? 'Save' : 'Make the category'}
      ready={form.name.trim() !== '' && form.lists.length > 0}
      save={() => save.mutateAsync(form)}
      told={(saved) => (category ? `Changed ${saved.name}.` : `Made the category ${saved.name}.`)}
      onClose={onClose}
    >
      {(wrong) => (
        <>
          <TextField
            label="Name"
            autoFocus
            value={form.name}
            onChange={(e) => setForm({ ...form, name: e.target.value })}
            error={wrong('name')}
          />
          <TextField
            label="What it is for"
            value={form.about}
            onChange={(e) => setForm({ ...form, about: e.target.value })}
          />
          <Choice
            label="Family"
            value={form.family}
            onChange={(family) => setForm({ ...form, family })}
            options={[
              ['', 'Our own'],
              ...(tree.data?.families ?? [])
                .filter((f) => f.key !== 'our-own')
                .map((f): [string, string] => [f.key, f.name]),
            ]}
          />
          <fieldset className="flex flex-col gap-1">
            <legend className="pb-1 font-semibold text-sm">Lists</legend>
            <div className="max-h-44 overflow-y-auto rounded-sm border border-rule px-2.5 py-1.5">
              {lists.data?.map((l) => (
                <Check
                  key={l.id}
                  label={l.name}
                  checked={form.lists.includes(l.id)}
                  onChange={(on) =>
                    setForm({ ...form, lists: on ? [...form.lists, l.id] : form.lists.filter((id) => id !== l.id) })
                  }
                />
              ))}
            </div>
          </fieldset>
          <Check
            label="Add to what the catalogue says, instead of standing in its place"
            checked={form.adds}
            onChange={(adds) => setForm({ ...form, adds })}
          />
        </>
      )}
    </SaveDialog>
  )
}
