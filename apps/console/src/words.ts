// Every sentence of the console, in one place: another language is another file like this one.
export const w = {
  product: 'Zunth',
  nav: {
    overview: 'Overview', plant: 'Plant', watch: 'Watch', trend: 'Trend', pages: 'Pages', alarms: 'Alarms',
    devices: 'Devices', access: 'Access', record: 'Record', changes: 'Changes',
  },
  head: {
    seek: 'Find a node, a device, a page …', live: 'live', connecting: 'connecting', lost: 'connection lost',
    guest: 'looking around', logIn: 'Log in', logOut: 'Log out', light: 'Light', dark: 'Dark', auto: 'As the system',
  },
  lost: 'The service does not answer. What you see may be old; this page comes back by itself.',
  loading: 'Loading …',
  retry: 'Try again', close: 'Close', cancel: 'Cancel', save: 'Save', remove: 'Remove', copy: 'Copy', copied: 'Copied',
  filter: 'Filter', exportCsv: 'Export as CSV', next: 'Next step', none: '–',
  status: { good: 'good', waiting: 'waiting for a first value', bad: 'bad', doubtful: 'doubtful' },
  overview: {
    attention: 'What wants attention', allWell: 'Nothing does. All devices answer, and the certificate is in order.',
    endpoints: 'Clients connect at', unsecured: 'unsecured allowed', secured: 'signed and encrypted',
    certificate: 'Certificate', validTo: 'valid until', fingerprint: 'SHA-256',
    clock: 'Clock', clockOff: (s: string) => `This browser's clock and the server's differ by ${s}.`, clockFine: 'agrees with this browser',
    running: 'Running since', load: 'Load', clients: 'Clients', devices: 'Devices', noClients: 'Nobody is connected.',
    nodes: 'nodes', items: 'watched values', subscriptions: 'subscriptions', allDevices: 'All devices',
  },
  plant: {
    title: 'Plant', types: 'Types', objects: 'Plant', whole: 'All of the server', hint: 'Each line shows its value as it is now.',
    open: 'Unfold', fold: 'Fold', more: 'Show more', empty: 'Nothing is below this node.',
  },
  node: {
    value: 'Value', age: 'ago', write: 'Write', writeThis: 'Write this value', written: 'Written', from: 'Where it comes from',
    explain: 'Show each step, from the device to its clients', below: 'Below', addresses: 'Address', path: 'Path',
    nodeId: 'NodeId', nodeIdWithUri: 'NodeId with its namespace', attributes: 'Attributes', references: 'References',
    call: 'Call', calling: 'Calling …', callAsk: 'Call it?', answered: 'Answered', noInputs: 'It takes nothing.',
    notCallable: 'You may not call it.', watch: 'Watch', unwatch: 'Watched', trend: 'Trend', history: 'Last hour',
    noHistory: 'No history is kept of it: what you see begins now.', moreReferences: 'There are more than are shown.',
    notWritable: 'You may not write it.', isType: 'type', measured: 'measured',
  },
  watch: {
    title: 'Watch', name: 'Name', value: 'Value', unit: 'Unit', status: 'Status', measured: 'Measured', rate: 'Changes', course: 'Course',
    write: 'Write', add: 'Add a node …', emptyTitle: 'Nothing is watched yet',
    empty: 'Add a node by its name above, or press “Watch” on a node’s page. The list stays in this browser until you save it by a name.',
    list: 'List', unsaved: 'unsaved list', saveAs: 'Save by a name', pause: 'Pause', go: 'Go on', newList: 'New list',
    trendAll: 'Trend of these', deleteList: 'Delete the list', perSecond: '/s', clear: 'Empty',
  },
  trend: {
    title: 'Trend', add: 'Add a variable …', emptyTitle: 'No variable is drawn yet', empty: 'Add one by its name above, or press “Trend” on a node’s page.',
    last: { '15m': '15 min', '1h': '1 h', '8h': '8 h', '24h': '24 h', '7d': '7 days' },
    live: 'live', zoomOut: 'Back to live', drag: 'Drag across the picture to look closer.', gaps: 'Gaps: no good value.',
  },
  pages: {
    title: 'Pages', emptyTitle: 'There is no page for operators yet', empty: 'A page shows a few values and buttons, large. Make one: choose nodes, and fitting widgets are proposed.',
    make: 'New page', edit: 'Change', done: 'Done', save: 'Save', add: 'Add a node …', heading: 'Heading', alarms: 'Alarm list',
    wider: 'Wider', narrower: 'Narrower', taller: 'Taller', lower: 'Lower', earlier: 'Earlier', later: 'Later', kind: 'Shown as', name: 'Name of the page', full: 'Full screen',
    sure: 'Sure?', on: 'on', off: 'off', unsaved: 'not saved yet', deletePage: 'Delete the page', set: 'Set',
  },
  alarms: {
    title: 'Alarms', none: 'No alarm wants attention.', noneOf: 'No alarm fits the filter.', severity: 'Severity', alarm: 'Alarm', state: 'State', since: 'Since', message: 'Message', comment: 'Comment',
    chosen: (n: number) => `${n} chosen`, commentHint: 'A comment for others', acknowledge: 'Acknowledge', confirm: 'Confirm', addComment: 'Comment', shelve: 'Shelve', unshelve: 'Unshelve',
    more: 'More', minutes: { 15: '15 min', 60: '1 h', 480: '8 h' }, once: 'until it goes', all: 'all', active: 'active', unacknowledged: 'to acknowledge', putAside: 'put aside',
  },
  devices: {
    title: 'Devices', point: 'Point', where: 'On the device', node: 'Node', unbound: 'bound to no node', noPoints: 'It offers no points.', device: 'Device', driver: 'Protocol', address: 'Address', state: 'State', every: 'Asked every', points: 'Points', polls: 'Asked', failures: 'Failed', roundTrip: 'Answers in',
    emptyTitle: 'No device is bound', empty: 'Write one with: zunth device scan ADDRESS, then bind its points in bindings/.', connected: 'answers', away: 'away', starting: 'starting', wire: 'What goes over the line',
    wireHint: 'Shown while this page is open.', noWire: 'Nothing has gone over the line yet.', lastError: 'Last error', since: 'since', variables: 'What it brings',
  },
  access: {
    title: 'Access', certificates: 'Certificates', users: 'Users', clients: 'Connected now', state: 'State', subject: 'Subject', application: 'Application', validTo: 'Valid until', fingerprint: 'Fingerprint',
    trust: 'Trust', forget: 'Forget', distrust: 'Trust no longer', refusedFirst: 'refused', noCertificates: 'No client has come with a certificate yet.',
    trustAsk: 'Compare the fingerprint with what the client itself shows. Whoever has this certificate gets in from now on.',
    name: 'Name', roles: 'Roles', enabled: 'May log in', addUser: 'Add a user', password: 'Password', newPassword: 'New password', change: 'Change', disable: 'Lock out', enable: 'Let in', yes: 'yes', no: 'no',
    noUsers: 'Nobody has a name and password here yet.', needs: 'For this, log in as somebody who has the role SecurityAdmin.', first: 'Make the first administrator',
    tokens: 'Links for spreadsheets', makeToken: 'Make a link', tokenNodes: 'Nodes, one a line: paths with * and **', noTokens: 'A link lets a spreadsheet read some values without a login.', tokenOnce: 'This is shown once. Whoever has it may read these values:', madeBy: 'Made by', nodes: 'Nodes', fromList: 'From the list that is watched',
    who: 'User', from: 'From', security: 'Security', since: 'Since', heard: 'Last heard', reads: 'Read', writes: 'Written', items: 'Watches',
  },
  record: {
    title: 'Record', audit: 'Who did what', log: 'What the service told', level: 'Level', text: 'Text', tellMore: 'Tell more for 15 min', tellLess: 'As before', levelNow: (level: string) => `It tells as much as ${level}.`, noLog: 'The service has told nothing since it was started.', time: 'Time', what: 'What', who: 'Who', from: 'From', outcome: 'Outcome', about: 'About', failed: 'Only what was refused or failed', none: 'Nothing of the kind is on record.', hint: 'Who did what, the newest first.',
  },
  changes: {
    title: 'Changes', same: 'What runs is what the folder says.', apply: 'Apply', applying: 'Applying …', findings: 'The folder has mistakes: nothing of it is applied.',
    node: 'Node', what: 'What', before: 'Runs now', after: 'The folder says', clients: 'Clients', restart: 'After the next start only', applied: (a: number, c: number, r: number) => `Applied: ${a} added, ${c} changed, ${r} removed.`,
    hint: 'Files of the site that are not yet in force.', look: 'Look again', cut: (shown: number, total: number) => `The first ${shown} of ${total} are shown.`,
  },
  login: {
    title: 'Log in', user: 'Name', password: 'Password', go: 'Log in', guest: 'Look around without logging in', expired: 'The login has ended. Log in, and go on where you were.',
    firstTitle: 'Make the first administrator', firstText: 'Nobody can log in here yet. zunthd printed a code when it was started: it shows that you are at this machine.', code: 'Code', make: 'Make administrator', repeat: 'Password once more', differ: 'The two passwords differ.',
  },
  seek: { hint: 'Words of a name or path, an id, a type, a device, or a page', none: 'Nothing fits.', node: 'node', page: 'page', device: 'device', variable: 'variable', method: 'method' },
  notFound: { title: 'There is nothing at this address', text: 'It may have been renamed or removed.' },
};
