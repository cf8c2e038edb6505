// The pages that one goes to by name: in the bar, by key and in the palette.
export const places = [
  { to: '/', label: 'Fleet', key: 'f' },
  { to: '/search', label: 'Search', key: 'q' },
  { to: '/drift', label: 'Drift', key: 'i' },
  { to: '/compare', label: 'Compare', key: 'c' },
  { to: '/snapshots', label: 'Snapshots', key: 's' },
  { to: '/schedules', label: 'Schedules', key: 'd' },
  { to: '/notifications', label: 'Notifications', key: 't' },
  { to: '/jobs', label: 'Jobs', key: 'j' },
  { to: '/settings', label: 'Settings', key: 'e' },
]

// Settings, each a tab of its page; what takes an admin to be seen is left out for others.
export const settings = [
  { name: 'service', label: 'Service' },
  { name: 'credentials', label: 'Credential sets' },
  { name: 'dialects', label: 'Dialects' },
  { name: 'inventory', label: 'Inventory', admin: true },
  { name: 'retention', label: 'Retention' },
  { name: 'copies', label: 'Copies and backups' },
  { name: 'files', label: 'Files' },
  { name: 'approvals', label: 'Approvals' },
  { name: 'tokens', label: 'Sessions and tokens' },
  { name: 'users', label: 'Users', admin: true },
  { name: 'audit', label: 'Audit', admin: true },
]
