import {
  BellRing,
  BrickWall,
  CalendarClock,
  ChartColumn,
  FlaskConical,
  GitCompareArrows,
  Inbox,
  type LucideIcon,
  NotebookText,
  Package,
  Presentation,
  Scale,
  ScrollText,
  SearchCheck,
  Shapes,
  Signpost,
  Users,
} from 'lucide-react'
import { type Does, useMay } from '../may/may'

const all: {
  to:
    | '/lists'
    | '/categories'
    | '/lookup'
    | '/packs'
    | '/people'
    | '/schedules'
    | '/policies'
    | '/exceptions'
    | '/changes'
    | '/gates'
    | '/journal'
    | '/reports'
    | '/alerts'
    | '/try'
    | '/steering'
    | '/requests'
  label: string
  icon: LucideIcon
  /** The operation that the page begins with, or one of several. */
  does: [Does, ...Does[]]
}[] = [
  { to: '/lists', label: 'Lists', icon: NotebookText, does: ['getLists'] },
  { to: '/categories', label: 'Categories', icon: Shapes, does: ['getCategories'] },
  { to: '/lookup', label: 'Look up', icon: SearchCheck, does: ['lookupUrls'] },
  { to: '/packs', label: 'Packs', icon: Package, does: ['getPacks'] },
  { to: '/people', label: 'People', icon: Users, does: ['getPeople'] },
  { to: '/steering', label: 'Groups led', icon: Presentation, does: ['getSteering'] },
  { to: '/schedules', label: 'Schedules', icon: CalendarClock, does: ['getSchedules'] },
  { to: '/policies', label: 'Policies', icon: Scale, does: ['getPolicies'] },
  { to: '/exceptions', label: 'Exceptions', icon: Signpost, does: ['getExceptions', 'getCodes'] },
  { to: '/requests', label: 'Requests', icon: Inbox, does: ['getRequestGroups'] },
  { to: '/try', label: 'Try', icon: FlaskConical, does: ['tryUrls'] },
  { to: '/changes', label: 'Changes', icon: GitCompareArrows, does: ['getDraft'] },
  { to: '/gates', label: 'Gates', icon: BrickWall, does: ['getGates'] },
  { to: '/journal', label: 'Journal', icon: ScrollText, does: ['searchJournal'] },
  { to: '/reports', label: 'Reports', icon: ChartColumn, does: ['makeReport'] },
  { to: '/alerts', label: 'Alerts', icon: BellRing, does: ['getAlerts'] },
]

/** The pages that the account may see, in the order of the navigation. */
export function usePages() {
  const may = useMay()
  const pages = all.filter(({ does }) => does.some((d) => may(d, { people: true })))
  // Whoever sees no lists is a lead: their groups come first.
  const first = may('getLists') ? -1 : pages.findIndex(({ to }) => to === '/steering')
  return first < 0 ? pages : [...pages.splice(first, 1), ...pages]
}

/** Whether an address is that of a page which the account may not see. */
export const isClosed = (address: string, pages: { to: string }[]) => {
  const under = (to: string) => address === to || address.startsWith(`${to}/`)
  return all.some(({ to }) => under(to)) && !pages.some(({ to }) => under(to))
}
