// Made from the service's OpenAPI document by console/make_types.py; do not change, change reedbasket/wire.

/** The parts in order, empty ones too. feeds: {feed: rows written in each part}, those without any left out. */
export interface Activity {
  step_seconds: number;
  parts: ActivityPart[];
  feeds: Record<string, number[]>;
}

/** What ended from `at` on, for one step. written: rows inserted, updated, deleted and removed. runs, failed: how many ended. */
export interface ActivityPart {
  at: string;
  loads: number;
  read: number;
  written: number;
  rejected: number;
  bytes: number;
  runs: number;
  failed: number;
}

/** How many files the next run takes once more. */
export interface Again {
  files: number;
}

/** diff: as unified diffs are written, of the definition as YAML. */
export interface Applied {
  kind: string;
  name: string;
  version: number;
  change: "new" | "changed" | "same" | "removed";
  diff: string;
}

/** In which steps. */
export interface AskBackfill {
  from: string;
  until: string;
  length: string;
}

/** Which feed, and how. */
export interface AskRun {
  feed: string;
  allow_loss?: boolean;
  replay?: boolean;
  sets?: Record<string, string | number | number | boolean>;
  extract?: boolean;
  bodies?: boolean;
  wait_seconds?: number;
}

/** A token to be. */
export interface AskToken {
  label: string;
  role: "viewer" | "operator" | "editor" | "admin";
  days?: number | null;
}

/** Who did what. */
export interface AuditLine {
  id: number;
  at: string;
  who: string;
  what: string;
  on: string;
  status: number;
  details: string;
}

/** counts: windows by state. */
export interface Backfill {
  id: number;
  feed: string;
  begins: string;
  ends: string;
  length: string;
  state: "active" | "paused" | "done" | "cancelled";
  asked_at: string;
  asked_by: string;
  windows: number;
  counts: Record<string, number>;
}

/** {file name: YAML text, or that of a .py file that a connector names}. settings: the same, of what is different here. */
export interface BasketFiles {
  files: Record<string, string>;
  settings?: Record<string, string>;
  dry_run?: boolean;
  prune?: boolean;
}

/** To what. */
export interface ChangeSetting {
  value: number | null;
}

/** What is to be another of an account. */
export interface ChangedUser {
  role?: "viewer" | "operator" | "editor" | "admin" | null;
  password?: string | null;
  disabled?: boolean | null;
}

/** ok: null where the step was not reached. fix: ready to be pasted. */
export interface CheckStep {
  step: string;
  ok: boolean | null;
  found: string;
  fix: string;
}

/** One way to say something in a definition, and what speaks for it. */
export interface Choice {
  say: unknown;
  why: string;
}

/** One of a table's. */
export interface Column {
  name: string;
  type: string;
}

/** Statistics of one column. */
export interface ColumnProfile {
  name: string;
  type: string;
  nulls: number;
  distinct: number;
  min: string | null;
  max: string | null;
  examples: string[];
}

/** How many were moved. */
export interface Counted {
  count: number;
}

/** One that is in force. */
export interface Definition {
  kind: string;
  name: string;
  version: number;
  data: Record<string, unknown>;
  file: string;
  applied_at: string;
  applied_by: string;
}

/** A basket's text that is not applied, and the source in it that is meant. */
export interface Draft {
  draft: string;
  source: string;
}

/** Which feed of it. */
export interface DraftPlan {
  draft: string;
  feed: string;
}

/** How many rows of which table. */
export interface DraftPreview {
  draft: string;
  source: string;
  table: string;
  rows?: number;
}

/** Which tables of it. */
export interface DraftSurvey {
  draft: string;
  source: string;
  match?: string[];
  exclude?: string[];
}

/** How many pages of which table. */
export interface DraftTry {
  draft: string;
  source: string;
  table: string;
  pages?: number;
}

/** One difference between the structure expected and the one met. what: table, column, type, vanished, returned. */
export interface Drift {
  id: number;
  feed: string;
  warehouse: string;
  source_table: string;
  run: number;
  at: string;
  what: "table" | "column" | "type" | "vanished" | "returned";
  table: string;
  column: string;
  words: string;
  ignored: boolean;
}

/** One window, [begins, ends). backfill: the number of the backfill it belongs to; None of the schedule. state: waiting, queued (a run has it), done, failed, skipped. */
export interface DueWindow {
  id: number;
  feed: string;
  backfill: number | null;
  begins: string;
  ends: string;
  state: "waiting" | "queued" | "done" | "failed" | "skipped";
  run: number | null;
  due_at: string;
}

/** What core.errors.ReedError holds. */
export interface ErrorFacts {
  code: string;
  doing: string;
  on: string;
  found: string;
  fix: string;
  retryable: boolean;
  wait_seconds: number | null;
  details: unknown;
}

/** One request and its answer, secrets blanked. Bodies are their first 16 KiB; cut: the answer's was longer. */
export interface Exchange {
  method: string;
  url: string;
  headers: Record<string, string>;
  body: string;
  status: number;
  answer_headers: Record<string, string>;
  answer_body: string;
  cut: boolean;
}

/** A feed's records as files. extract: the version of this manifest; name: of its folder. */
export interface Extract {
  name: string;
  extract: number;
  feed: string;
  feed_version: number;
  source: string;
  run: number;
  began: string;
  ended: string;
  tables: ExtractedTable[];
}

/** How far a table was read. */
export interface ExtractedCursor {
  kind: string;
  value: string;
}

/** file: Parquet. sha256: of it, hex. schema: JSON Schema of a row. cursor: how far the source was taken. */
export interface ExtractedTable {
  name: string;
  source_table: string | null;
  file: string;
  rows: number;
  bytes: number;
  sha256: string;
  key: string[];
  cursor: ExtractedCursor | null;
  schema: Record<string, unknown>;
}

/** activity: idle, queued or running. fresh_at: when a run last succeeded. late: that is longer ago than the feed's `fresh_within`. also: further warehouses. drift: changes of structure that its last run met. */
export interface Feed {
  name: string;
  description: string;
  version: number;
  source: string;
  connector: string;
  warehouse: string;
  also: string[];
  tables: string[];
  activity: "idle" | "queued" | "running";
  last_run: Run | null;
  fresh_at: string | null;
  rejects: number;
  drift: number;
  schedule: FeedSchedule;
  fresh_within_seconds: number | null;
  late: boolean;
  variant: Record<string, unknown>;
}

/** rule: as the definition says it. next_due: null where it waits for another feed, or for nothing. windows: how many are in which state, where the schedule goes by windows. */
export interface FeedSchedule {
  rule: Record<string, unknown> | null;
  next_due: string | null;
  paused: Pause | null;
  windows: Record<string, number>;
}

/** One file of a feed's table. state: loaded; failed, it could not be read to its end, see problem; ignored, it changed and the feed leaves it; missing at the source, its rows stay; requeued, the next run loads it again. load: that its rows came in. warehouse: of a feed into several, each knows its own. */
export interface FileLine {
  warehouse: string;
  table: string;
  number: number;
  path: string;
  size: number;
  modified: string;
  tag: string;
  state: string;
  rows: number;
  rejected: number;
  load: number | null;
  at: string;
  problem: string;
}

/** How far a feed was behind the log that it follows, when a run of it last read it. See wire.Lag. */
export interface FollowedLag {
  feed: string;
  at: string;
  size: number;
  seconds: number | null;
  transactions: number;
}

/** One thing that a source can be. setup: an administrator has to let us in, by statements that the service knows. */
export interface Form {
  title: string;
  type: string;
  setup: boolean;
  fields: FormField[];
}

/** One thing that is asked of who describes a source. key: where it stands in the definition. start: at first; None for nothing. values: the only ones, the one that holds where nothing is said first. secret: the name of one; own: at first one of the definition's own. */
export interface FormField {
  key: string[];
  label: string;
  example: string;
  start: string | number | null;
  values: string[];
  number: boolean;
  secret: boolean;
  own: boolean;
}

/** Whether the service is up. */
export interface Health {
  status: "ok";
  version: string;
}

/** How far a database's log was ahead. seconds: since the oldest change that waits was committed; null where nothing waits. */
export interface Lag {
  size: number;
  seconds: number | null;
  transactions: number;
}

/** One load into one warehouse table; see core.records.ledger.LedgerLine. */
export interface LedgerLine {
  warehouse: string;
  load: number;
  run: number;
  feed: string;
  source: string;
  source_table: string;
  table: string;
  write: string;
  read: number;
  staged: number;
  inserted: number;
  updated: number;
  deleted: number;
  unchanged: number;
  superseded: number;
  rejected: number;
  removed: number;
  repeated: number;
  cursor_from: string | null;
  cursor_to: string | null;
  source_bytes: number;
  started: string;
  ended: string;
  filtered: number;
  reading_seconds: number;
  shaping_seconds: number;
  staging_seconds: number;
  committing_seconds: number;
  reconciles: boolean;
}

/** A line of a run's log. */
export interface LogLine {
  number: number;
  at: string;
  level: "info" | "warning" | "error";
  code: string;
  table: string | null;
  message: string;
  data: Record<string, unknown> | null;
}

/** One way to find a table's changes, and what it misses or costs. */
export interface Method {
  by: string;
  misses: string;
}

/** A token, shown this once. */
export interface NewToken {
  token: string;
}

/** An account to be. */
export interface NewUser {
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
  password?: string | null;
}

/** What somebody is to hear, or has heard. state: waiting, sent, undeliverable; then `problem` says why. */
export interface Notification {
  id: number;
  at: string;
  event: "failed" | "recovered" | "succeeded" | "rejects" | "drift" | "late";
  feed: string;
  run: number | null;
  channel: "email" | "webhook";
  goes_to: string;
  state: "waiting" | "sent" | "undeliverable";
  tries: number;
  next_at: string;
  problem: string;
  sent_at: string | null;
}

/** Of whoever is signed in. */
export interface OwnPassword {
  old: string;
  new: string;
}

/** How far a run was: seconds since it began, records read and bytes received until then. */
export interface PaceSample {
  seconds: number;
  read: number;
  bytes: number;
}

/** Since when and by whom a feed is paused. */
export interface Pause {
  paused_at: string;
  paused_by: string;
}

/** full: the feed with every default filled in. */
export interface Plan {
  feed: string;
  version: number;
  warehouse: string;
  tables: PlannedTable[];
  ignored: string[];
  full: Record<string, unknown>;
}

/** What a run will not see, or what looks wrong with the first page. */
export interface PlanWarning {
  code: string;
  words: string;
}

/** A column that would be new. */
export interface PlannedColumn {
  name: string;
  type: string;
}

/** A difference that a run would meet. */
export interface PlannedDrift {
  what: string;
  words: string;
  ignored: boolean;
}

/** See core.runs.inspection.plan.PlannedTable. */
export interface PlannedTable {
  source_table: string;
  table: string;
  warehouse: string;
  parent: string | null;
  exists: boolean;
  columns: PlannedColumn[];
  new_columns: PlannedColumn[];
  by: string;
  write: string;
  key: string[];
  cursor_from: string | null;
  cursor_until: string | null;
  request: string;
  sample_records: number;
  sample_rejects: number;
  sample_filtered: number;
  deletes: string;
  drift: PlannedDrift[];
  warnings: PlanWarning[];
  steps: string[];
  losses: string[];
  records: number | null;
  requests: number | null;
  seconds: number | null;
  only_nulls: string[];
  unmatched: string[];
  error: ErrorFacts | null;
}

/** rejects: why records could not be shaped. note: of files, which one this is and how it was read. */
export interface Preview {
  columns: Column[];
  rows: unknown[][];
  rejects: string[];
  exchanges: Exchange[];
  note: string;
}

/** How many rows, and whether with what went over the wire. */
export interface PreviewBody {
  rows?: number;
  wire?: boolean;
}

/** How many rows of which files. */
export interface PreviewFilesBody {
  files: string;
  rows?: number;
}

/** RFC 9457. `code` is stable; `mistakes` only for definitions. */
export interface Problem {
  type: string;
  title: string;
  status: number;
  detail: string;
  code: string;
  doing: string;
  on: string;
  found: string;
  fix: string;
  details: unknown;
}

/** Statistics of a table's columns. */
export interface Profile {
  table: string;
  rows: number;
  columns: ColumnProfile[];
}

/** From when to when. */
export interface Range {
  from: string;
  until: string;
}

/** workers: how many are up, of how many. problems: why it is not ready, in words. */
export interface Readiness {
  ready: boolean;
  workers: number;
  problems: string[];
}

/** record: JSON text, as received. warehouse: which rejected it; '' where an older version did not say. */
export interface Reject {
  id: number;
  feed: string;
  warehouse: string;
  source_table: string;
  run: number;
  at: string;
  code: string;
  message: string;
  field: string;
  record: string;
  times: number;
}

/** One request of a run. The URL is masked; status is null where no answer came. seconds: until the answer was whole; waited_seconds: for a turn before it; pause_seconds: before the next attempt. kept: what went over the wire can be looked at. */
export interface RequestLine {
  number: number;
  at: string;
  table: string;
  method: string;
  url: string;
  status: number | null;
  bytes: number;
  seconds: number;
  waited_seconds: number;
  attempt: number;
  problem: string;
  pause_seconds: number;
  pause_reason: string;
  kept: boolean;
}

/** To which version. */
export interface Revert {
  version: number;
}

/** Which files are to be loaded again. */
export interface Rewind {
  table: string;
  files: string[];
}

/** To where a cursor is to go back. */
export interface RewindCursor {
  table: string;
  to?: string | null;
  dry_run?: boolean;
}

/** A table's cursor, moved back, or as it would be: where it stood, and where the next run reads on from (null: the beginning). The rest is what that run would take of the source, where it was only looked at and the source says so. */
export interface Rewound {
  table: string;
  was: string;
  now: string | null;
  records: number | null;
  requests: number | null;
  seconds: number | null;
}

/** Integers beyond 2^53 come as text, since a browser would round them; bytes as hexadecimal text. */
export interface Rows {
  columns: Column[];
  rows: unknown[][];
  truncated: boolean;
  seconds: number;
}

/** due_at: when its schedule wanted it to begin. not_before: it waits until then. window: [from, until), what it takes of tables that know times. backfill: the number of the backfill whose window it takes. sets: in place of the variant's values and of settings, for this run. bodies: what went over the wire is kept. extract: its records become files, and no rows. */
export interface Run {
  id: number;
  feed: string;
  feed_version: number;
  outcome: "queued" | "running" | "succeeded" | "failed" | "cancelled" | "interrupted";
  requested_at: string;
  started_at: string | null;
  ended_at: string | null;
  resumes: number | null;
  allow_loss: boolean;
  replay: boolean;
  trigger: "manual" | "schedule" | "window" | "upstream" | "backfill" | "retry";
  asked_by: string;
  due_at: string | null;
  not_before: string | null;
  attempt: number;
  window: string[] | null;
  backfill: number | null;
  sets: Record<string, unknown>;
  bodies: boolean;
  extract: boolean;
  error: ErrorFacts | null;
  totals: Totals;
  tables: TableProgress[];
}

/** A feed that runs by itself, with the latest windows of its schedule, the oldest first; none where it has no windows. */
export interface ScheduledFeed {
  feed: string;
  schedule: FeedSchedule;
  activity: "idle" | "queued" | "running";
  latest: DueWindow[];
}

/** kept: in the store, sealed; environment or file: there, and only read by workers. changed_at: of one in the store. */
export interface SecretName {
  name: string;
  kept: "store" | "environment" | "file";
  changed_at: string | null;
}

/** A secret's value. */
export interface SecretValue {
  value: string;
}

/** Where a person goes to sign in at a source. */
export interface SentThere {
  url: string;
}

/** user: null where the session came of a link for whoever holds the machine's token. */
export interface Session {
  signed_in: boolean;
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
  user: string | null;
}

/** One option of `reed serve`. changeable: while the service runs; began_with: what it was started with, where it was changed since. */
export interface Setting {
  name: string;
  value: string;
  changeable: boolean;
  began_with: string | null;
}

/** One statement for an administrator. sql: empty where there is only something to say. */
export interface SetupStatement {
  why: string;
  sql: string;
}

/** A code out of a sign-in link, or a name and its password. */
export interface SignIn {
  code?: string | null;
  name?: string | null;
  password?: string | null;
}

/** A link into the console. */
export interface SignInCode {
  code: string;
  url: string;
}

/** Beside a name with its password, and a link. openid: the host of the provider, null where there is none. */
export interface SignInWays {
  openid: string | null;
}

/** database: a database and no connector; `connector` says of what kind, and tables are known by a survey alone. files: the same of a store of files; discover_tables: of a connector in Python that asks the source which tables there are. settings: as filled in, secrets by name. signs_in: how, in words; person: whether somebody has to sign in there, signed_in: whether somebody did, or a token is held. rate_limit: what the connector says, concurrency and so on. asked_last_minute: requests that its feeds' runs sent. failures: in a row, across all who ask; rests_until: nobody asks before. lags: of feeds that follow its log. */
export interface Source {
  name: string;
  description: string;
  connector: string;
  database: boolean;
  files: boolean;
  discover_tables: boolean;
  base_url: string;
  settings: Record<string, unknown>;
  signs_in: string;
  person: boolean;
  signed_in: boolean;
  tables: string[];
  feeds: string[];
  rate_limit: Record<string, unknown>;
  asked_last_minute: number;
  failures: number;
  rests_until: string | null;
  lags: FollowedLag[];
}

/** A SELECT, and what it may take. */
export interface Statement {
  sql: string;
  limit?: number;
  seconds?: number;
}

/** What an answer suggests, the likeliest first. */
export interface Suggested {
  records: Choice[];
  total: Choice[];
  pagination: Choice[];
  key: Choice[];
  cursor: Choice[];
}

/** Which tables. */
export interface SurveyBody {
  match?: string[];
  exclude?: string[];
}

/** A column, by some of its values. */
export interface SurveyedColumn {
  name: string;
  type: string;
  nulls: number | null;
  distinct: number | null;
  examples: string[];
  declared: string;
  nullable: boolean;
}

/** See core.runs.inspection.look.SurveyedTable. */
export interface SurveyedTable {
  table: string;
  description: string;
  request: string;
  records: number;
  total: number | null;
  columns: SurveyedColumn[];
  lists: string[];
  key: string[];
  keys: string[];
  cursor: string | null;
  cursors: string[];
  parent: string | null;
  what: string;
  readable: boolean;
  indexed: string[];
  methods: Method[];
  error: ErrorFacts | null;
}

/** feed, source_table: which loaded it last, and out of what. */
export interface Table {
  name: string;
  columns: Column[];
  rows: number;
  feed: string | null;
  last_load: number | null;
  loaded_at: string | null;
  source_table: string | null;
}

/** phase: waiting, reading, committing, done, failed or skipped. Counts are records of the source's table. lag: of one that follows a log, as the run found it. warehouse: '' for the feed's first; of a feed into several, which of the others. */
export interface TableProgress {
  table: string;
  target: string;
  warehouse: string;
  phase: "waiting" | "reading" | "committing" | "done" | "failed" | "skipped";
  read: number;
  staged: number;
  inserted: number;
  updated: number;
  deleted: number;
  repeated: number;
  held_back: number;
  rejected: number;
  unchanged: number;
  filtered: number;
  requests: number;
  source_bytes: number;
  waited_seconds: number;
  waiting: string;
  expected: number | null;
  cursor_from: string | null;
  cursor_to: string | null;
  seconds: number;
  lag: Lag | null;
  error: ErrorFacts | null;
}

/** id: the beginning of its hash; the token itself was shown once. */
export interface Token {
  id: string;
  label: string;
  role: "viewer" | "operator" | "editor" | "admin";
  made_by: string;
  created_at: string;
  ends_at: string | null;
  used_at: string | null;
}

/** Counts over all tables of a run. */
export interface Totals {
  read: number;
  staged: number;
  inserted: number;
  updated: number;
  deleted: number;
  repeated: number;
  held_back: number;
  rejected: number;
  unchanged: number;
  filtered: number;
  requests: number;
  source_bytes: number;
}

/** answer: the last one as a tree, lists cut to their first items; null where it is no JSON. pages: records on each page that was read. error: why it went no further. */
export interface Tried {
  columns: Column[];
  rows: unknown[][];
  exchanges: Exchange[];
  answer: unknown;
  pages: number[];
  suggested: Suggested;
  error: ErrorFacts | null;
}

/** openid: they sign in by OpenID Connect, which says what their role is. */
export interface User {
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
  created_at: string;
  disabled: boolean;
  has_password: boolean;
  openid: boolean;
}

/** values: {column: [the source's, the warehouse's]}, those that differ. */
export interface VerifiedSample {
  what: string;
  key: unknown[];
  values: Record<string, unknown[]>;
}

/** See core.runs.inspection.verify.VerifiedTable. */
export interface VerifiedTable {
  source_table: string;
  table: string;
  deep: boolean;
  source: number;
  warehouse: number;
  only_source: number | null;
  only_warehouse: number | null;
  differing: number | null;
  rejected: number;
  filtered: number;
  same: boolean;
  lacking: string[];
  samples: VerifiedSample[];
  error: ErrorFacts | null;
}

/** Which table, and whether value by value. */
export interface Verify {
  table?: string | null;
  deep?: boolean;
}

/** diff: to the version before it. removed: with it the definition was taken away. */
export interface Version {
  kind: string;
  name: string;
  version: number;
  file: string;
  applied_at: string;
  applied_by: string;
  removed: boolean;
  diff: string;
}

/** One that is defined. */
export interface Warehouse {
  name: string;
  type: string;
  description: string;
  where: string;
}
