import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { Plus } from 'lucide-react'
import { useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { useMay } from '../may/may'
import { Button } from '../ui/Button'
import { fieldClass } from '../ui/Field'
import { viewClass } from '../ui/viewClass'
import { CategoryTree } from './CategoryTree'
import { CorrectionsView } from './CorrectionsView'
import { OwnCategoryDialog } from './OwnCategoryDialog'
import { ScorecardsView } from './ScorecardsView'
import { UnratedView } from './UnratedView'
import { type CategoryView, categoryViews } from './views'

const names: Record<CategoryView | 'tree', string> = {
  tree: 'All categories',
  corrections: 'Corrections',
  unrated: 'Unrated',
  scorecards: 'Scorecards',
}

/** Categories of the catalogue and of the organisation, corrections, sites without a category, and scorecards. */
export function CategoriesPage() {
  const may = useMay()
  const { q = '', view } = useSearch({ from: '/categories' })
  const navigate = useNavigate({ from: '/categories' })
  const [making, setMaking] = useState(false)
  const search = view === undefined || view === 'corrections'
  return (
    <div className="flex h-full flex-col px-5">
      <div className="flex items-end gap-3 pt-4 pb-3">
        <div className="grow">
          <h1 className="font-semibold text-xl">Categories</h1>
          <p className="text-soft">
            What sites are, and who says so. Packs bring the catalogue; we correct it and add to it.
          </p>
        </div>
        {search && (
          <input
            type="search"
            aria-label={view === 'corrections' ? 'Filter corrections' : 'Find categories'}
            placeholder={view === 'corrections' ? 'Filter corrections' : 'Find by name or what it is about'}
            value={q}
            onChange={(e) =>
              navigate({ search: (before) => ({ ...before, q: e.target.value || undefined }), replace: true })
            }
            className={`${fieldClass} h-8 w-64`}
          />
        )}
        <Button look="main" does="createCategory" onClick={() => setMaking(true)}>
          <Plus size={16} aria-hidden /> Category of our own
        </Button>
      </div>
      <nav aria-label="Ways to look at categories" className="flex gap-5 pb-3">
        {([undefined, ...categoryViews] as const)
          .filter((v) => v !== 'unrated' || may('getUnrated'))
          .map((v) => (
            <Link
              key={v ?? 'tree'}
              from="/categories"
              search={(before) => ({ ...trialOf(before), view: v })}
              aria-current={view === v ? 'page' : undefined}
              className={viewClass(view === v)}
            >
              {names[v ?? 'tree']}
            </Link>
          ))}
      </nav>
      {view === undefined && <CategoryTree text={q} />}
      {view === 'corrections' && <CorrectionsView text={q} />}
      {view === 'unrated' && <UnratedView />}
      {view === 'scorecards' && <ScorecardsView />}
      {making && <OwnCategoryDialog onClose={() => setMaking(false)} />}
    </div>
  )
}
