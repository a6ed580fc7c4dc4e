import { createRootRoute, createRoute, createRouter, Link, lazyRouteComponent } from '@tanstack/react-router'
import { sights } from './address/trialSearch'
import { categoryViews } from './categories/views'
import { changeViews } from './changes/views'
import { z } from './checks'
import { exceptionViews } from './exceptions/views'
import { kindNames, views } from './lists/kinds'
import { ListPage } from './lists/ListPage'
import { ListsPage } from './lists/ListsPage'
import { policyViews } from './policies/views'
import { Frame } from './shell/Frame'
import { TryPage } from './trials/TryPage'
import { tryViews } from './trials/views'
import { buttonClass } from './ui/Button'
import { EmptyNotice } from './ui/Notice'

/** The address of every page holds the URL under trial, so that a link shows a colleague the same answer. */
const rootRoute = createRootRoute({
  component: Frame,
  validateSearch: z.object({
    url: z.string().optional().catch(undefined),
    as: z.coerce.string().optional().catch(undefined),
    at: z.coerce.string().optional().catch(undefined),
    sight: z.enum(sights).optional().catch(undefined),
  }),
  notFoundComponent: () => (
    <div className="px-5">
      <EmptyNotice
        title="There is no such page"
        action={
          <Link to="/lists" className={buttonClass('main')}>
            All lists
          </Link>
        }
      >
        The address may be mistyped, or from another version of the console.
      </EmptyNotice>
    </div>
  ),
})

/** The frame leads on from here, to the first page that the account may see. */
const indexRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/',
})

/** The first owner makes an account here; the frame shows the page. */
const welcomeRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/welcome',
})

/** The identity provider leads back here; the frame shows the page. */
const signedInRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/signed-in',
})

const listsRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/lists',
  component: ListsPage,
  validateSearch: z.object({
    q: z.coerce.string().optional().catch(undefined),
    sort: z.enum(['name', '-name', 'entryCount', '-entryCount', 'updatedAt', '-updatedAt']).optional().catch(undefined),
  }),
})

const listRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/lists/$id',
  component: ListPage,
  validateSearch: z.object({
    q: z.coerce.string().optional().catch(undefined),
    kind: z.enum(kindNames).optional().catch(undefined),
    view: z.enum(views).optional().catch(undefined),
    from: z.coerce.number().int().positive().optional().catch(undefined),
    to: z.coerce.number().int().positive().optional().catch(undefined),
  }),
})

const tryRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/try',
  component: TryPage,
  validateSearch: z.object({
    view: z.enum(tryViews).optional().catch(undefined),
    urls: z.coerce.string().optional().catch(undefined),
  }),
})

const peopleRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/people',
  component: lazyRouteComponent(() => import('./people/PeoplePage'), 'PeoplePage'),
  validateSearch: z.object({
    q: z.coerce.string().optional().catch(undefined),
    group: z.string().optional().catch(undefined),
    view: z
      .enum(['people', 'networks', 'machines', 'presences', 'directories', 'accounts'])
      .optional()
      .catch(undefined),
    who: z.coerce.string().optional().catch(undefined),
  }),
})

const policiesRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/policies',
  component: lazyRouteComponent(() => import('./policies/PoliciesPage'), 'PoliciesPage'),
  validateSearch: z.object({ view: z.enum(policyViews).optional().catch(undefined) }),
})

const policyRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/policies/$id',
  component: lazyRouteComponent(() => import('./policies/PolicyPage'), 'PolicyPage'),
})

const exceptionsRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/exceptions',
  component: lazyRouteComponent(() => import('./exceptions/ExceptionsPage'), 'ExceptionsPage'),
  validateSearch: z.object({
    q: z.coerce.string().optional().catch(undefined),
    view: z.enum(exceptionViews).optional().catch(undefined),
  }),
})

const changesRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/changes',
  component: lazyRouteComponent(() => import('./changes/ChangesPage'), 'ChangesPage'),
  validateSearch: z.object({
    view: z.enum(changeViews).optional().catch(undefined),
    from: z.coerce.string().optional().catch(undefined),
    to: z.coerce.string().optional().catch(undefined),
    categories: z.array(z.string()).optional().catch(undefined),
    lists: z.array(z.string()).optional().catch(undefined),
    entries: z.array(z.coerce.string()).optional().catch(undefined),
    days: z.number().int().positive().optional().catch(undefined),
  }),
})

const categoriesRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/categories',
  component: lazyRouteComponent(() => import('./categories/CategoriesPage'), 'CategoriesPage'),
  validateSearch: z.object({
    q: z.coerce.string().optional().catch(undefined),
    key: z.string().optional().catch(undefined),
    view: z.enum(categoryViews).optional().catch(undefined),
  }),
})

const lookupRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/lookup',
  component: lazyRouteComponent(() => import('./categories/LookupPage'), 'LookupPage'),
  validateSearch: z.object({
    of: z.coerce.string().optional().catch(undefined),
    many: z.boolean().optional().catch(undefined),
  }),
})

const packsRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/packs',
  component: lazyRouteComponent(() => import('./packs/PacksPage'), 'PacksPage'),
})

const gatesRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/gates',
  component: lazyRouteComponent(() => import('./gates/GatesPage'), 'GatesPage'),
})

const journalRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/journal',
  component: lazyRouteComponent(() => import('./journal/JournalPage'), 'JournalPage'),
  validateSearch: z.object({
    q: z.coerce.string().optional().catch(undefined),
    record: z.string().optional().catch(undefined),
    before: z.string().optional().catch(undefined),
    cols: z.string().optional().catch(undefined),
  }),
})

const reportsRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/reports',
  component: lazyRouteComponent(() => import('./reports/ReportsPage'), 'ReportsPage'),
  validateSearch: z.object({
    q: z.coerce.string().optional().catch(undefined),
    span: z.enum(['24h', '7d', '30d', 'day', 'week', 'month']).optional().catch(undefined),
    compare: z.boolean().optional().catch(undefined),
    id: z.string().optional().catch(undefined),
  }),
})

const alertsRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/alerts',
  component: lazyRouteComponent(() => import('./alerts/AlertsPage'), 'AlertsPage'),
  validateSearch: z.object({
    view: z.enum(['open', 'past', 'alerts', 'forwards']).optional().catch(undefined),
  }),
})

const packRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/packs/$id',
  component: lazyRouteComponent(() => import('./packs/PackPage'), 'PackPage'),
  validateSearch: z.object({
    view: z.enum(['update', 'history', 'settings']).optional().catch(undefined),
    from: z.coerce.number().int().positive().optional().catch(undefined),
    to: z.coerce.number().int().positive().optional().catch(undefined),
  }),
})

const schedulesRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/schedules',
  component: lazyRouteComponent(() => import('./schedules/SchedulesPage'), 'SchedulesPage'),
  validateSearch: z.object({ id: z.string().optional().catch(undefined) }),
})

const requestsRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/requests',
  component: lazyRouteComponent(() => import('./requests/RequestsPage'), 'RequestsPage'),
})

const steeringRoute = createRoute({
  getParentRoute: () => rootRoute,
  path: '/steering',
  component: lazyRouteComponent(() => import('./steering/SteeringPage'), 'SteeringPage'),
  validateSearch: z.object({ group: z.string().optional().catch(undefined) }),
})

/** Every address of the console. */
export const router = createRouter({
  routeTree: rootRoute.addChildren([
    indexRoute,
    welcomeRoute,
    signedInRoute,
    listsRoute,
    listRoute,
    categoriesRoute,
    lookupRoute,
    packsRoute,
    gatesRoute,
    journalRoute,
    reportsRoute,
    alertsRoute,
    packRoute,
    peopleRoute,
    schedulesRoute,
    policiesRoute,
    policyRoute,
    exceptionsRoute,
    changesRoute,
    steeringRoute,
    requestsRoute,
    tryRoute,
  ]),
})

declare module '@tanstack/react-router' {
  interface Register {
    router: typeof router
  }
}
