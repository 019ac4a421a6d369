// Which pages there are, and who sees them.
export type PageEntry = {
  name: string
  title: string
  icon: 'tiles' | 'graph' | 'dial' | 'board' | 'book' | 'people' | 'gear' | 'mark' | 'bell'
  roles: string[]
}

const all = ['owner', 'member', 'guest']
const pages: PageEntry[] = [
  { name: 'now', title: 'Now', icon: 'mark', roles: all },
  { name: 'charts', title: 'Charts', icon: 'graph', roles: all },
  { name: 'dashboards', title: 'Dashboards', icon: 'tiles', roles: all },
  { name: 'alerts', title: 'Alerts', icon: 'bell', roles: all },
  { name: 'control', title: 'Control', icon: 'dial', roles: ['owner', 'member'] },
  { name: 'devices', title: 'Devices', icon: 'board', roles: ['owner', 'member'] },
  { name: 'journal', title: 'Journal', icon: 'book', roles: ['owner', 'member'] },
  { name: 'household', title: 'Household', icon: 'people', roles: ['owner'] },
  { name: 'settings', title: 'Settings', icon: 'gear', roles: all },
]

export function pagesFor(role: string | undefined): PageEntry[] {
  return pages.filter((p) => p.roles.includes(role ?? ''))
}
