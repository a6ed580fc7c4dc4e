import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { Link, useNavigate, useSearch } from '@tanstack/react-router'
import { TriangleAlert, X } from 'lucide-react'
import { Fragment, useMemo, useState } from 'react'
import { trialOf } from '../address/trialSearch'
import { afterwards } from '../ui/afterwards'
import { useAnnounce } from '../ui/announce'
import { Button, buttonClass, IconButton } from '../ui/Button'
import { fieldClass } from '../ui/Field'
import { formatNumber } from '../ui/format'
import { EmptyNotice, Loading, ProblemNotice } from '../ui/Notice'
import { cellClass, Head, onRowKeys } from '../ui/Table'
import { useSettled } from '../ui/useSettled'
import { Hits } from '../usage/Hits'
import { type Used, useUsage } from '../usage/useUsage'
import { type Category, categoriesOptions, type Family, sitesOptions, useDeleteCategory } from './categoryQueries'
import { LookupLink } from './LookupLink'
import { OwnCategoryDialog } from './OwnCategoryDialog'

/** Families with their categories: dangers first, in a section of their own, then contents. Choosing one shows its sites. */
export function CategoryTree({ text }: { text: string }) {
  const settled = useSettled(text.trim())
  const found = useQuery(categoriesOptions(settled))
  const { key } = useSearch({ from: '/categories' })
  const used = useUsage(
    'category',
    useMemo(() => (found.data?.categories ?? []).map((c) => c.key), [found.data]),
  )
  if (found.isPending) return <Loading what="the categories" />
  if (found.error) return <ProblemNotice error={found.error} retry={() => found.refetch()} />
  const { families, categories } = found.data
  if (categories.length === 0 && settled === '') {
    return (
      <EmptyNotice
        title="The catalogue is empty"
        action={
          <Link to="/packs" search={(before) => ({ ...trialOf(before) })} className={buttonClass('main')}>
            Get a pack
          </Link>
        }
      >
        Categories come with packs: files that somebody keeps who looks at sites all day. Get one, or make a category of
        our own from lists.
      </EmptyNotice>
    )
  }
  return (
    <div className="flex min-h-0 grow gap-6">
      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls has to be reachable by the keyboard
        tabIndex={0}
        aria-label="Categories"
        className="min-h-0 grow overflow-y-auto pb-4"
      >
        {categories.length === 0 && <p className="pt-4 text-soft">No category is about "{text}".</p>}
        {categories.length > 0 && (
          <table className="w-full border-collapse" onKeyDown={onRowKeys}>
            <thead>
              <tr>
                <Head>Category</Head>
                <Head right>Sites</Head>
                <Head right>Requests</Head>
                <Head right>Hosts</Head>
                <Head right>Hits in 30 days</Head>
              </tr>
            </thead>
            <tbody>
              {settled === ''
                ? [...families]
                    .sort((a, b) => Number(b.security) - Number(a.security))
                    .map((f) => (
                      <FamilyRows
                        key={f.key}
                        family={f}
                        categories={categories.filter((c) => c.family === f.key)}
                        chosen={key}
                        used={used}
                      />
                    ))
                : categories.map((c) => (
                    <CategoryRow
                      key={c.key}
                      category={c}
                      used={used?.get(c.key)}
                      family={families.find((f) => f.key === c.family)}
                      chosen={key === c.key}
                      told
                    />
                  ))}
            </tbody>
          </table>
        )}
        <p className="pt-3 text-sm text-soft">
          Of {formatNumber(found.data.total.requests)} recorded requests, {formatNumber(found.data.unrated.requests)}{' '}
          went to{' '}
          <Link
            from="/categories"
            search={(before) => ({ ...trialOf(before), view: 'unrated' as const })}
            className="text-reed underline underline-offset-2"
          >
            {formatNumber(found.data.unrated.hosts)} hosts that are unrated
          </Link>
          .
        </p>
      </section>
      {key && (
        <CategoryPanel
          key={key}
          id={key}
          category={categories.find((c) => c.key === key)}
          family={families.find((f) => f.key === key)}
        />
      )}
    </div>
  )
}

function FamilyRows({
  family,
  categories,
  chosen,
  used,
}: {
  family: Family
  categories: Category[]
  chosen?: string
  used?: Map<string, Used>
}) {
  if (categories.length === 0) return null
  const edge = family.security ? 'pt-2' : 'pt-4'
  const number = `${cellClass} ${edge} text-right font-semibold`
  return (
    <Fragment>
      <tr className={family.security ? 'bg-clay-wash' : undefined}>
        <th scope="rowgroup" className={`${cellClass} ${edge} text-left ${family.security ? 'pl-2!' : ''}`}>
          <Link
            from="/categories"
            search={(before) => ({ ...before, key: family.key })}
            aria-current={chosen === family.key ? 'true' : undefined}
            className="font-semibold underline decoration-rule underline-offset-2 hover:decoration-ink"
          >
            {family.security && (
              <TriangleAlert size={15} aria-hidden className="mr-1 inline align-[-0.1em] text-clay" />
            )}
            {family.name}
          </Link>{' '}
          <span className="font-normal text-sm text-soft">{family.about}</span>
        </th>
        <td className={number} />
        <td className={number}>{formatNumber(family.traffic.requests)}</td>
        <td className={`${number} ${family.security ? 'pr-2!' : ''}`}>{formatNumber(family.traffic.hosts)}</td>
        <td className={number} />
      </tr>
      {categories.map((c) => (
        <CategoryRow key={c.key} category={c} family={family} chosen={chosen === c.key} used={used?.get(c.key)} />
      ))}
    </Fragment>
  )
}

type RowProps = { category: Category; family?: Family; chosen: boolean; told?: boolean; used?: Used }

function CategoryRow({ category: c, family, chosen, told, used }: RowProps) {
  return (
    <tr className={chosen ? 'bg-reed-wash' : 'hover:bg-wash'}>
      <td className={`${cellClass} py-1! ${told ? '' : 'pl-5!'}`}>
        <Link
          from="/categories"
          search={(before) => ({ ...before, key: c.key })}
          aria-current={chosen ? 'true' : undefined}
          className="underline decoration-rule underline-offset-2 hover:decoration-ink"
        >
          {c.name}
        </Link>
        {c.own && <span className="ml-2 rounded-sm border border-reed px-1 text-reed text-xs">ours</span>}
        {told && <span className="text-sm text-soft"> in {family?.name}</span>}
        {(told || c.own) && <span className="text-sm text-soft"> {c.about}</span>}
      </td>
      <td className={`${cellClass} py-1! text-right`}>
        {c.own ? <span className="text-soft">lists</span> : formatNumber(c.sites)}
      </td>
      <td className={`${cellClass} py-1! text-right`}>{formatNumber(c.traffic.requests)}</td>
      <td className={`${cellClass} py-1! text-right`}>{formatNumber(c.traffic.hosts)}</td>
      <td className={`${cellClass} py-1! text-right`}>
        <Hits used={used} name={c.name} query={`category:${c.key}`} />
      </td>
    </tr>
  )
}

/** The sites of a category or family. */
function CategoryPanel({ id, category, family }: { id: string; category?: Category; family?: Family }) {
  const [text, setText] = useState('')
  const [editing, setEditing] = useState(false)
  const settled = useSettled(text)
  const sites = useInfiniteQuery(sitesOptions(id, settled))
  const navigate = useNavigate({ from: '/categories' })
  const remove = useDeleteCategory()
  const announce = useAnnounce()
  const close = () => navigate({ search: (before) => ({ ...before, key: undefined }) })
  const found = sites.data?.pages.flatMap((page) => page.sites) ?? []
  const what = category ?? family
  return (
    <aside aria-label="What is in it" className="flex w-[25rem] shrink-0 flex-col gap-3 border-rule border-l pl-5">
      <div className="flex items-start gap-2">
        <div className="grow">
          <h2 className="font-semibold text-lg">{what?.name ?? id}</h2>
          <p>{what?.about}</p>
        </div>
        <IconButton label="Close" onClick={close}>
          <X size={17} aria-hidden />
        </IconButton>
      </div>
      <dl className="grid grid-cols-[6rem_1fr] gap-y-0.5 text-sm">
        <dt className="text-soft">Key</dt>
        <dd className="mono">{id}</dd>
        {category && category.keywords.length > 0 && (
          <>
            <dt className="text-soft">Also</dt>
            <dd>{category.keywords.join(', ')}</dd>
          </>
        )}
        {category?.example && (
          <>
            <dt className="text-soft">Example</dt>
            <dd>
              <LookupLink url={category.example} />
            </dd>
          </>
        )}
        {category?.own && (
          <>
            <dt className="text-soft">Made of</dt>
            <dd>
              {category.own.lists.map((l, i) => (
                <Fragment key={l.id}>
                  {i > 0 && ', '}
                  <Link
                    to="/lists/$id"
                    params={{ id: l.id }}
                    search={(before) => ({ ...trialOf(before) })}
                    className="text-reed underline underline-offset-2"
                  >
                    {l.name}
                  </Link>
                </Fragment>
              ))}
              , {category.own.adds ? 'beside what the catalogue says' : 'in place of what the catalogue says'}
            </dd>
          </>
        )}
      </dl>
      {category?.own ? (
        <div className="flex gap-2">
          <Button does="editCategory" onClick={() => setEditing(true)}>
            Edit
          </Button>
          <Button
            look="danger"
            does="deleteCategory"
            disabled={remove.isPending}
            onClick={() =>
              category.own &&
              afterwards(remove.mutateAsync(category.own), () => {
                announce(`Deleted the category ${category.name}; its lists stay.`)
                void close()
              })
            }
          >
            Delete the category
          </Button>
        </div>
      ) : (
        <input
          type="search"
          aria-label="Filter sites"
          placeholder="Filter sites"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className={`${fieldClass} h-8 w-full shrink-0`}
        />
      )}
      {remove.error && <ProblemNotice error={remove.error} />}
      {sites.error && <ProblemNotice error={sites.error} />}
      {!category?.own && (
        <section
          // biome-ignore lint/a11y/noNoninteractiveTabindex: a box that scrolls has to be reachable by the keyboard
          tabIndex={0}
          aria-label="Sites"
          className="min-h-0 grow overflow-y-auto pb-4"
        >
          {sites.data && found.length === 0 && <p className="text-soft">The catalogue has no such site.</p>}
          <ul>
            {found.map((s) => (
              <li key={`${s.entry} ${s.pack}`} className="flex gap-2 border-rule border-b py-1 text-sm">
                <span className="grow">
                  <LookupLink url={s.entry} />
                </span>
                <span className="text-right text-soft">{s.categories.filter((k) => k !== id).join(', ')}</span>
              </li>
            ))}
          </ul>
          {sites.hasNextPage && (
            <Button className="mt-3" onClick={() => sites.fetchNextPage()}>
              More
            </Button>
          )}
        </section>
      )}
      {editing && category && <OwnCategoryDialog category={category} onClose={() => setEditing(false)} />}
    </aside>
  )
}
