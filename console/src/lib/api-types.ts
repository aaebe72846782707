// Made from the service's OpenAPI document by console/make_types.py; do not change, change reedbasket/wire.

/** The steps in order, empty ones included. `feeds`: {feed: rows written in each step}, without feeds that wrote nothing. */
export interface Activity {
  step_seconds: number;
  parts: ActivityPart[];
  feeds: Record<string, number[]>;
}

/** What ended within one step, from `at` on. `written`: rows inserted, updated, deleted and removed. `runs`, `failed`: how many runs ended, and failed. */
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

/** What happened to one definition. `diff`: a unified diff of its YAML. */
export interface ApplyResult {
  kind: string;
  name: string;
  version: number;
  change: "new" | "changed" | "same" | "removed";
  diff: string;
}

/** A line of the audit log. */
export interface AuditLine {
  id: number;
  at: string;
  who: string;
  what: string;
  on: string;
  status: number;
  details: string;
}

/** A backfill. `counts`: windows by state. */
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

/** The range of a backfill, and the length of its windows. */
export interface BackfillParameters {
  from: string;
  until: string;
  length: string;
}

/** {file name: YAML text, or the text of a .py file that a connector names}. `settings`: the same, with what is different in this environment. */
export interface BasketFiles {
  files: Record<string, string>;
  settings?: Record<string, string>;
  dry_run?: boolean;
  prune?: boolean;
}

/** The new value of a setting. */
export interface ChangeSetting {
  value: number | null;
}

/** What to change about a user. */
export interface ChangedUser {
  role?: "viewer" | "operator" | "editor" | "admin" | null;
  password?: string | null;
  disabled?: boolean | null;
}

/** A step of a check. `ok`: null if it was not reached. `fix`: ready to be pasted. */
export interface CheckStep {
  step: string;
  ok: boolean | null;
  found: string;
  fix: string;
}

/** One suggestion for a definition, and the reason for it. */
export interface Choice {
  say: unknown;
  why: string;
}

/** A column of a table. */
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

/** How many there were. */
export interface Counted {
  count: number;
}

/** A definition in force. */
export interface Definition {
  kind: string;
  name: string;
  version: number;
  data: Record<string, unknown>;
  file: string;
  applied_at: string;
  applied_by: string;
}

/** The text of definitions that are not applied, and the source in it. */
export interface Draft {
  draft: string;
  source: string;
}

/** Which feed to plan. */
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

/** Which tables to survey. */
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

/** A change of the source's structure. `what`: table, column, type, vanished, returned. */
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

/** One window, [begins, ends). `backfill`: that it belongs to; null for the schedule. `state`: waiting, queued (a run has it), done, failed, skipped. */
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

/** The facts of an error; see core.errors.ReedError. */
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

/** One request and its answer, with secrets masked. Bodies are their first 16 KiB; `cut`: the answer's was longer. */
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

/** A feed's records as files. `extract`: the version of the manifest's format. `name`: of its folder. */
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

/** A table of an extract. `file`: a Parquet file. `sha256`: of the file, hex. `schema`: JSON Schema of a row. `cursor`: how far the source was read. */
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

/** A feed. `activity`: idle, queued or running. `fresh_at`: when a run last succeeded. `late`: that is longer ago than `fresh_within` allows. `also`: further warehouses. `drift`: changes of structure that the last run found. */
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

/** A feed's schedule. `rule`: as the definition says. `next_due`: null if it waits for another feed, or for nothing. `windows`: how many are in which state, for a schedule of windows. */
export interface FeedSchedule {
  rule: Record<string, unknown> | null;
  next_due: string | null;
  paused: Pause | null;
  windows: Record<string, number>;
}

/** One file of a feed's table. `state`: loaded; failed (it could not be read to its end, see `problem`); ignored (it changed, and the feed keeps what is loaded); missing (no longer at the source, its rows stay); requeued (the next run loads it again). `load`: that loaded its rows. `warehouse`: each warehouse of a feed has its own. */
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

/** How far a feed was behind the change log that it follows, when a run last read it. See wire.Lag. */
export interface FollowedLag {
  feed: string;
  at: string;
  size: number;
  seconds: number | null;
  transactions: number;
}

/** One kind of source. `setup`: an administrator has to grant access by statements that the service knows. */
export interface Form {
  title: string;
  type: string;
  setup: boolean;
  fields: FormField[];
}

/** A field of a form for sources. `key`: of the definition. `start`: the initial value; null for none. `values`: the only possible ones, the default first. `secret`: the name of one; `own`: initially one of the definition's own. */
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

/** How far a change log was ahead. `seconds`: since the oldest waiting change was committed; null if nothing is waiting. */
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

/** A new user. */
export interface NewUser {
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
  password?: string | null;
}

/** A notification. `state`: waiting, sent, undeliverable; then `problem` says why. */
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

/** The password of whoever is signed in. */
export interface OwnPassword {
  old: string;
  new: string;
}

/** How far a run was: seconds since its start, records read and bytes received until then. */
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

/** A plan. `full`: the feed with every default filled in. */
export interface Plan {
  feed: string;
  version: number;
  warehouse: string;
  tables: PlannedTable[];
  ignored: string[];
  full: Record<string, unknown>;
}

/** Something that a run cannot see, or that looks wrong with the first page. */
export interface PlanWarning {
  code: string;
  words: string;
}

/** A column that would be created. */
export interface PlannedColumn {
  name: string;
  type: string;
}

/** A change of structure that a run would find. */
export interface PlannedDrift {
  what: string;
  words: string;
  ignored: boolean;
}

/** A planned table; see core.runs.inspection.plan.PlannedTable. */
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

/** The first records of a table. `rejects`: why records could not be shaped. `note`: for files, which file it is and how it was read. */
export interface Preview {
  columns: Column[];
  rows: unknown[][];
  rejects: string[];
  exchanges: Exchange[];
  note: string;
}

/** How many rows, and whether to include what was sent and received. */
export interface PreviewBody {
  rows?: number;
  wire?: boolean;
}

/** How many rows of which files. */
export interface PreviewFilesBody {
  files: string;
  rows?: number;
}

/** Problem details (RFC 9457). `code` is stable; `mistakes` is for definitions only. */
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

/** A range of time. */
export interface Range {
  from: string;
  until: string;
}

/** Whether the service is ready. `workers`: how many are up, of how many. `problems`: why it is not ready, in words. */
export interface Readiness {
  ready: boolean;
  workers: number;
  problems: string[];
}

/** A rejected record. `record`: JSON text, as it was received. `warehouse`: which rejected it; '' if an older version did not record it. */
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

/** One request of a run. The URL is masked; `status` is null if no answer came. `seconds`: until the answer was complete. `waited_seconds`: for its turn before that. `pause_seconds`: before the next attempt. `kept`: what was sent and received was recorded. */
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

/** How many files the next run loads again. */
export interface RequeuedFiles {
  files: number;
}

/** The version to revert to. */
export interface Revert {
  version: number;
}

/** Which files to load again. */
export interface Rewind {
  table: string;
  files: string[];
}

/** Where to move the cursor. */
export interface RewindCursor {
  table: string;
  to?: string | null;
  dry_run?: boolean;
}

/** A table's cursor, moved back, or as it would be: where it was, and where the next run continues from (null: the beginning). The rest is what that run would read, if this was a dry run and the source can tell. */
export interface RewoundCursor {
  table: string;
  was: string;
  now: string | null;
  records: number | null;
  requests: number | null;
  seconds: number | null;
}

/** Rows of a table or a query. Integers beyond 2^53 are text, since a browser would round them; bytes are hexadecimal text. */
export interface Rows {
  columns: Column[];
  rows: unknown[][];
  truncated: boolean;
  seconds: number;
}

/** A run. `due_at`: when its schedule wanted it to start. `not_before`: it waits until then. `window`: [from, until) for tables that know times. `backfill`: the backfill whose window it loads. `sets`: overrides values of the variant and settings. `bodies`: bytes of requests and answers are recorded. `extract`: its records become files instead of rows. */
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

/** Which feed to run, and how. */
export interface RunParameters {
  feed: string;
  allow_loss?: boolean;
  replay?: boolean;
  sets?: Record<string, string | number | number | boolean>;
  extract?: boolean;
  bodies?: boolean;
  wait_seconds?: number;
}

/** A feed with a schedule, and its latest windows, the oldest first; none if it has no windows. */
export interface ScheduledFeed {
  feed: string;
  schedule: FeedSchedule;
  activity: "idle" | "queued" | "running";
  latest: DueWindow[];
}

/** A secret without its value. `kept`: in the store, encrypted; or in the environment or a file, where only workers read it. `changed_at`: for one in the store. */
export interface SecretName {
  name: string;
  kept: "store" | "environment" | "file";
  changed_at: string | null;
}

/** A secret's value. */
export interface SecretValue {
  value: string;
}

/** Who is signed in. `user`: null if the session comes from a link for the holder of this machine's token. */
export interface Session {
  signed_in: boolean;
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
  user: string | null;
}

/** An option of `reed serve`. `changeable`: while the service runs. `began_with`: the value that the service was started with, if it was changed since. */
export interface Setting {
  name: string;
  value: string;
  changeable: boolean;
  began_with: string | null;
}

/** One statement for an administrator. `sql`: empty if there is only something to say. */
export interface SetupStatement {
  why: string;
  sql: string;
}

/** The code of a sign-in link, or a name and its password. */
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

/** Where a person goes to sign in at a source. */
export interface SignInRedirect {
  url: string;
}

/** How people can sign in, besides a name with a password and a link. `openid`: the provider's host; null if there is none. */
export interface SignInWays {
  openid: string | null;
}

/** A source. `database`: it is a database of the kind that `connector` says, and a survey shows its tables; `files`: the same for a file store. `discover_tables`: a connector in Python that asks the source for its tables. `settings`: as filled in, secrets by name. `signs_in`: how, in words. `person`: somebody has to sign in there. `signed_in`: somebody did, or there is a token. `rate_limit`: as declared. `asked_last_minute`: requests of its feeds' runs. `failures`: in a row, across all runs. `rests_until`: no request is sent before. `lags`: of feeds that follow its change log. */
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

/** A SELECT, and its limits. */
export interface Statement {
  sql: string;
  limit?: number;
  seconds?: number;
}

/** What an answer suggests, the most likely first. */
export interface Suggestion {
  records: Choice[];
  total: Choice[];
  pagination: Choice[];
  key: Choice[];
  cursor: Choice[];
}

/** Which tables to survey. */
export interface SurveyBody {
  match?: string[];
  exclude?: string[];
}

/** A column, from a sample of its values. */
export interface SurveyedColumn {
  name: string;
  type: string;
  nulls: number | null;
  distinct: number | null;
  examples: string[];
  declared: string;
  nullable: boolean;
}

/** A surveyed table; see core.runs.inspection.look.SurveyedTable. */
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

/** A table of a warehouse. `feed`, `source_table`: which loaded it last, and from what. */
export interface Table {
  name: string;
  columns: Column[];
  rows: number;
  feed: string | null;
  last_load: number | null;
  loaded_at: string | null;
  source_table: string | null;
}

/** The progress of one table. `phase`: waiting, reading, committing, done, failed or skipped. Counts are of the source table's records. `lag`: of a change log, when the run read it. `warehouse`: '' for the feed's first. */
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

/** A token. `id`: the beginning of its hash; the token itself was shown once. */
export interface Token {
  id: string;
  label: string;
  role: "viewer" | "operator" | "editor" | "admin";
  made_by: string;
  created_at: string;
  ends_at: string | null;
  used_at: string | null;
}

/** A new token. */
export interface TokenParameters {
  label: string;
  role: "viewer" | "operator" | "editor" | "admin";
  days?: number | null;
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

/** The result of trying out a table. `answer`: the last one as a tree, with shortened lists; null if it is not JSON. `pages`: the number of records on each page that was read. `error`: why it did not go on. */
export interface TrialResult {
  columns: Column[];
  rows: unknown[][];
  exchanges: Exchange[];
  answer: unknown;
  pages: number[];
  suggested: Suggestion;
  error: ErrorFacts | null;
}

/** A user. `openid`: they sign in by OpenID Connect, which decides their role. */
export interface User {
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
  created_at: string;
  disabled: boolean;
  has_password: boolean;
  openid: boolean;
}

/** A row that differs. `values`: {column: [the source's, the warehouse's]}. */
export interface VerifiedSample {
  what: string;
  key: unknown[];
  values: Record<string, unknown[]>;
}

/** The comparison of one table; see core.runs.inspection.verify.VerifiedTable. */
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

/** Which table, and whether to compare values. */
export interface Verify {
  table?: string | null;
  deep?: boolean;
}

/** A version of a definition. `diff`: to the version before it. `removed`: this version removed the definition. */
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

/** A warehouse. */
export interface Warehouse {
  name: string;
  type: string;
  description: string;
  where: string;
}
