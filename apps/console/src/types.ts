// What the API answers, as docs/http.md describes it.

export interface Refusal {
  code: string;
  cause: string;
  next: string;
}

export interface Me {
  site: { name: string; uri: string };
  allowsAnonymous: boolean;
  awaitsFirstUser: boolean;
  user?: string;
  isAnonymous?: boolean;
  roles?: string[];
  proof?: string;
}

export interface Member {
  value: number;
  name: string;
}

export type Kind = 'boolean' | 'integer' | 'number' | 'time' | 'structure' | 'text';

export interface TypeFacts {
  dataType: string;
  kind: Kind;
  valueRank: number;
  members?: Member[];
}

export interface Span {
  low: number;
  high: number;
}

export interface Facts extends TypeFacts {
  unit: string;
  range: Span | null;
  limits: Span | null;
  whenTrue?: string;
  whenFalse?: string;
  isReadable: boolean;
  isWritable: boolean;
  hasHistory: boolean;
}

export interface NodeBrief {
  id: string;
  name: string;
  displayName?: string;
  path: string;
  class: string;
  type: string;
  hasChildren: boolean;
  isAlarm?: boolean;
  isProperty?: boolean;
  facts?: Facts;
}

export interface Argument extends TypeFacts {
  name: string;
  description: string;
}

export interface Step {
  id: string;
  name: string;
  path: string;
}

export interface NodePage extends NodeBrief {
  description: string;
  ancestors: Step[];
  addresses: { path: string; nodeId: string; nodeIdWithUri: string };
  attributes: { name: string; text: string }[];
  references: { type: string; isForward: boolean; id: string; name: string; path: string; class: string }[];
  moreReferences: boolean;
  inputs?: Argument[];
  outputs?: Argument[];
  isCallable?: boolean;
}

export type Scalar = number | string | boolean | null;
export type Value = Scalar | Value[] | { [name: string]: Value };

export interface Alarm {
  id: string;
  branch: string;
  alarm: string;
  severity: number;
  since: string | null;
  message: string;
  comment: string;
  class: string;
  state: string;
  isActive: boolean;
  isAcknowledged: boolean;
  isConfirmed: boolean;
  isEnabled: boolean;
  isShelved: boolean;
  isSuppressed: boolean;
  isOutOfService: boolean;
  isLatched: boolean;
  isSilenced: boolean;
  reminders: number;
  isAsked: boolean;
  options: string[];
}

export interface Device {
  device: string;
  driver: string;
  address: string;
  state: 'starting' | 'connected' | 'away';
  since: string;
  every: number;
  points: number;
  polls: number;
  failures: number;
  writes: number;
  roundTrip: number;
  lastError: string;
}

export interface DevicePoint {
  point: string;
  where: string;
  isWritable: boolean;
  nodes: { id: string; path: string }[];
}

export interface DeviceKind {
  name: string;
  keys: string[];
  isScanned: boolean;
}

export interface TriedPoint {
  name: string;
  words: string;
  value: string;
  status: string;
  way: { stage: string; shows: string }[];
}

export interface TriedDevice {
  address: string;
  nameplate: { what: string; says: string }[];
  areWays: boolean;
  points: TriedPoint[];
}

export interface FoundPoint {
  name: string;
  words: string;
  value: string;
  type: string;
  status: string;
}

export interface Client {
  id: string;
  name: string;
  application: string;
  user: string;
  from: string;
  security: string;
  policy: string;
  since: number | null;
  lastHeard: number | null;
  subscriptions: number;
  items: number;
  reads: number;
  writes: number;
}

export interface Policy {
  transport: string;
  policy: string;
  mode: string;
  isSecure: boolean;
  users: string[];
  clients: number;
}

export interface WayIn {
  name: string;
  kind: string;
  at: string;
  state: 'open' | 'inhibited' | 'closed';
  clients: number;
  requests?: number; // of a Modbus server
  refused?: number;
  why: string;
}

export interface Worry {
  how: 'bad' | 'warn' | 'note';
  what: string;
  next: string;
  page: string;
}

export interface Status {
  name: string;
  uri: string;
  state: string;
  since: number;
  now: number;
  endpoints: { url: string; isUnsecured: boolean }[];
  load: { processor: number; memory: number };
  counts: { clients: number; subscriptions: number; items: number; nodes: number; pages: number };
  worries: Worry[];
  devices: Device[];
  clients: Client[];
  certificate?: CertificateFacts;
}

export interface PastEvent {
  time: number | null;
  severity: number;
  source: string;
  type: string;
  message: string;
}

export interface CertificateFacts {
  subject: string;
  application: string;
  fingerprint: string;
  validFrom: number;
  validTo: number;
}

export interface KnownCertificate {
  state: string;
  fingerprint: string;
  subject: string;
  application: string;
  validFrom: string;
  validTo: string;
}

export interface User {
  name: string;
  isEnabled: boolean;
  roles: string[];
}

export interface AuditLine {
  time: string;
  what: string;
  who: string;
  from: string;
  application: string;
  outcome: string;
  about: string;
}

export interface LogLine {
  time: string;
  level: string;
  text: string;
  part: string;
}

export interface AccessToken {
  name: string;
  user: string;
  nodes: string[];
  made: string;
}

export interface WireLine {
  number: number;
  time: string;
  way: 'sent' | 'came';
  octets: string;
  words: string;
}

export interface Change {
  change: 'added' | 'removed' | 'changed' | 'renamed';
  node: string;
  what: string;
  before: string;
  after: string;
  clients: string;
}

export interface Changes {
  applied: boolean;
  findings?: string[];
  changes?: Change[];
  restart?: string[];
  total?: number;
  added?: number;
  removed?: number;
  changed?: number;
}

export interface SiteFile {
  name: string;
  isEdited: boolean;
  isNew: boolean;
  isInConflict: boolean;
  by: string;
}
export interface SiteText {
  name: string;
  saved: string;
  draft: string | null;
  isInConflict: boolean;
  version: string;
}
export interface ShownValue {
  text: string;
  status: string;
  unit?: string;
}
export interface PreviewLine {
  point: string;
  words: string;
  node: string;
  unit?: string;
  brought: ShownValue;
  shown: ShownValue;
  now?: ShownValue; // what the node shows as it runs
  way: { stage: string; shows: string }[];
  why: string;
}
export interface Preview {
  lines: PreviewLine[];
  left: number;
}
export interface FileFinding {
  file: string;
  line: number;
  column: number;
  isError: boolean;
  message: string;
  hint: string;
}
export interface SiteVersion {
  id: string;
  who: string;
  when: string;
  why: string;
  files: string[];
}

/** What stands beside a variable's past. */
export interface Mark {
  time: number; // ms since 1970
  what: 'came' | 'went' | 'remark';
  severity: number;
  text: string;
  who: string | null;
}

export type PastRow = [number, number | string | null, string | null];

// What people make and keep at the console.

export interface WatchList {
  nodes: string[];
}

export type WidgetKind =
  | 'number'
  | 'gauge'
  | 'bar'
  | 'lamp'
  | 'switch'
  | 'button'
  | 'setpoint'
  | 'choice'
  | 'text'
  | 'trend'
  | 'alarms'
  | 'heading';

export interface Widget {
  id: string;
  kind: WidgetKind;
  node?: string;
  title?: string;
  columns: number; // of twelve that it takes
  rows: number;
}

export interface OperatorPage {
  title: string;
  shownTo?: string[]; // roles; everybody without any
  operatedBy?: string[];
  widgets: Widget[];
}

export interface Sheet<Content> {
  name: string;
  version?: string;
  content: Content;
  isOperable?: boolean; // by who is logged in
}
