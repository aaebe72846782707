// Keys and fetch functions together; components write neither.
import { queryOptions } from "@tanstack/react-query";
import { call } from "./api";
import type {
  Activity,
  ApplyResult,
  AuditLine,
  Backfill,
  CheckStep,
  Counted,
  Definition,
  Drift,
  DueWindow,
  Exchange,
  Extract,
  Feed,
  FileLine,
  Form,
  LedgerLine,
  NewToken,
  Notification,
  PaceSample,
  Plan,
  Preview,
  Profile,
  Reject,
  RequestLine,
  RequeuedFiles,
  RewoundCursor,
  Rows,
  Run,
  ScheduledFeed,
  SecretName,
  Session,
  Setting,
  SetupStatement,
  SignInRedirect,
  SignInWays,
  Source,
  SurveyedTable,
  Table,
  Token,
  TrialResult,
  User,
  VerifiedTable,
  Version,
  Warehouse,
} from "./api-types";
import { at } from "./base";
import { live } from "./changes";

const part = encodeURIComponent;

export const feedsQuery = () =>
  queryOptions({ queryKey: ["feeds"], queryFn: () => call<Feed[]>("GET", "/api/v1/feeds"), ...live(3000) });

export const feedQuery = (feed: string) =>
  queryOptions({
    queryKey: ["feeds", feed],
    queryFn: () => call<Feed>("GET", `/api/v1/feeds/${part(feed)}`),
    ...live(3000),
  });

export const feedRunsQuery = (feed: string) =>
  queryOptions({
    queryKey: ["runs", { feed }],
    queryFn: () => call<Run[]>("GET", `/api/v1/runs?limit=25&feed=${part(feed)}`),
    ...live(3000),
  });

export const ledgerQuery = (feed: string) =>
  queryOptions({
    queryKey: ["ledger", feed],
    queryFn: () => call<LedgerLine[]>("GET", `/api/v1/feeds/${part(feed)}/ledger?limit=100`),
    ...live(5000),
  });

export const rejectsQuery = (feed: string) =>
  queryOptions({
    queryKey: ["rejects", feed],
    queryFn: () => call<Reject[]>("GET", `/api/v1/feeds/${part(feed)}/rejects?limit=100`),
  });

export const planQuery = (feed: string) =>
  queryOptions({
    queryKey: ["plan", feed],
    queryFn: () => call<Plan>("POST", `/api/v1/feeds/${part(feed)}/plan`),
    // A plan asks the source; it is made when asked for, not in passing.
    staleTime: Infinity,
    gcTime: 0,
    retry: false,
  });

export const driftQuery = (feed: string) =>
  queryOptions({
    queryKey: ["drift", feed],
    queryFn: () => call<Drift[]>("GET", `/api/v1/feeds/${part(feed)}/drift?limit=100`),
    ...live(5000),
  });

/** The latest files taken, or only those that could not be read. */
export const filesQuery = (feed: string, failed: boolean, limit: number) =>
  queryOptions({
    queryKey: ["files", feed, failed, limit],
    queryFn: () => call<FileLine[]>("GET", `/api/v1/feeds/${part(feed)}/files?limit=${limit}${failed ? "&state=failed" : ""}`),
    ...live(5000),
  });

export const askFilesAgain = (feed: string, table: string, files: string[]) =>
  call<RequeuedFiles>("POST", `/api/v1/feeds/${part(feed)}/rewind`, { table, files });

/** dryRun: what it would cost. */
export const rewindCursor = (feed: string, table: string, to: string | null, dryRun: boolean) =>
  call<RewoundCursor>("POST", `/api/v1/feeds/${part(feed)}/rewind-cursor`, { table, to, dry_run: dryRun });

/** Reads the source from its beginning; made when asked for. */
export const verifyFeed = (feed: string, table: string | null, deep: boolean) =>
  call<VerifiedTable[]>("POST", `/api/v1/feeds/${part(feed)}/verify`, { table, deep });

export const runsQuery = () =>
  queryOptions({ queryKey: ["runs"], queryFn: () => call<Run[]>("GET", "/api/v1/runs?limit=50"), ...live(3000) });

export const runLedgerQuery = (run: number, active: boolean) =>
  queryOptions({
    queryKey: ["run-ledger", run],
    queryFn: () => call<LedgerLine[]>("GET", `/api/v1/runs/${run}/ledger`),
    refetchInterval: active ? 1500 : false,
  });

/** The first of a run's requests, or of those that failed. */
export const requestsQuery = (run: number, failed: boolean, active: boolean) =>
  queryOptions({
    queryKey: ["requests", run, failed],
    queryFn: () => call<RequestLine[]>("GET", `/api/v1/runs/${run}/requests?limit=1000&failed=${failed}`),
    refetchInterval: active ? 2000 : false,
  });

/** What went over the wire of one of them. */
export const exchangeQuery = (run: number, number: number) =>
  queryOptions({
    queryKey: ["exchange", run, number],
    queryFn: () => call<Exchange>("GET", `/api/v1/runs/${run}/requests/${number}`),
    staleTime: Infinity,
    retry: false,
  });

/** How far a run was at which moment. */
export const paceQuery = (run: number, active: boolean) =>
  queryOptions({
    queryKey: ["pace", run],
    queryFn: () => call<PaceSample[]>("GET", `/api/v1/runs/${run}/pace`),
    refetchInterval: active ? 2000 : false,
  });

export const requestsFile = (run: number) => at(`/api/v1/runs/${run}/requests.ndjson`);

export const sourcesQuery = () =>
  queryOptions({ queryKey: ["sources"], queryFn: () => call<Source[]>("GET", "/api/v1/sources"), ...live(5000) });

export const sourceQuery = (source: string) =>
  queryOptions({
    queryKey: ["sources", source],
    queryFn: () => call<Source>("GET", `/api/v1/sources/${part(source)}`),
    ...live(5000),
  });

// These three ask the source; they are made when asked for, not in passing.
export const checkSource = (source: string) => call<CheckStep[]>("POST", `/api/v1/sources/${part(source)}/check`);

export const surveySource = (source: string) => call<SurveyedTable[]>("POST", `/api/v1/sources/${part(source)}/survey`, {});

export const setupSql = (source: string) => call<SetupStatement[]>("POST", `/api/v1/sources/${part(source)}/setup-sql`);

export const previewTable = (source: string, table: string, rows: number, wire: boolean) =>
  call<Preview>("POST", `/api/v1/sources/${part(source)}/tables/${part(table)}/preview`, { rows, wire });

export const previewFiles = (source: string, files: string, rows: number) =>
  call<Preview>("POST", `/api/v1/sources/${part(source)}/preview-files`, { files, rows });

/** Where a person goes to sign in at the source. */
export const signInThere = (source: string) => call<SignInRedirect>("POST", `/api/v1/sources/${part(source)}/sign-in`);

export const warehousesQuery = () =>
  queryOptions({ queryKey: ["warehouses"], queryFn: () => call<Warehouse[]>("GET", "/api/v1/warehouses") });

export const tablesQuery = (warehouse: string) =>
  queryOptions({
    queryKey: ["tables", warehouse],
    queryFn: () => call<Table[]>("GET", `/api/v1/warehouses/${part(warehouse)}/tables`),
    refetchInterval: 5000,
  });

export const profileQuery = (warehouse: string, table: string) =>
  queryOptions({
    queryKey: ["profile", warehouse, table],
    queryFn: () => call<Profile>("GET", `/api/v1/warehouses/${part(warehouse)}/tables/${part(table)}/profile`),
    staleTime: Infinity,
    retry: false,
  });

export const checkWarehouse = (warehouse: string) => call<CheckStep[]>("POST", `/api/v1/warehouses/${part(warehouse)}/check`);

export const rowsQuery = (warehouse: string, table: string, offset: number, limit: number) =>
  queryOptions({
    queryKey: ["rows", warehouse, table, offset, limit],
    queryFn: () =>
      call<Rows>("GET", `/api/v1/warehouses/${part(warehouse)}/tables/${part(table)}/rows?limit=${limit}&offset=${offset}`),
    placeholderData: (before: Rows | undefined) => before,
  });

export const askSql = (warehouse: string, sql: string, limit: number, seconds: number) =>
  call<Rows>("POST", `/api/v1/warehouses/${part(warehouse)}/query`, { sql, limit, seconds });

/** bodies: what goes over the wire is kept with its requests. */
export const askRun = (feed: string, bodies = false) => call<Run>("POST", "/api/v1/runs", { feed, bodies });

/** The feed's rejects once more, in place of asking the source. */
export const askReplay = (feed: string) => call<Run>("POST", "/api/v1/runs", { feed, replay: true });

// Extracts

export const extractsQuery = () =>
  queryOptions({ queryKey: ["extracts"], queryFn: () => call<Extract[]>("GET", "/api/v1/extracts"), ...live(5000) });

export const extractFile = (extract: string, file: string) => at(`/api/v1/extracts/${part(extract)}/${part(file)}`);

export const askExtract = (feed: string) => call<Run>("POST", "/api/v1/runs", { feed, extract: true });

export const removeExtract = (extract: string) => call<void>("DELETE", `/api/v1/extracts/${part(extract)}`);

export const cancelRun = (run: number) => call<Run>("POST", `/api/v1/runs/${run}/cancel`);

export const signIn = (code: string) => call<unknown>("POST", "/api/v1/session", { code });

export const signInByName = (name: string, password: string) => call<Session>("POST", "/api/v1/session", { name, password });

export const signInWaysQuery = () =>
  queryOptions({ queryKey: ["sign-in-ways"], queryFn: () => call<SignInWays>("GET", "/api/v1/sign-in-ways") });

export const sessionQuery = () => queryOptions({ queryKey: ["session"], queryFn: () => call<Session>("GET", "/api/v1/session") });

// Schedules

export const pauseFeed = (feed: string, pause: boolean) =>
  call<Feed>("POST", `/api/v1/feeds/${part(feed)}/${pause ? "pause" : "resume"}`);

export const schedulesQuery = () =>
  queryOptions({
    queryKey: ["schedules"],
    queryFn: () => call<ScheduledFeed[]>("GET", "/api/v1/schedules?each=60"),
    ...live(3000),
  });

export const windowsQuery = (feed: string, state: string) =>
  queryOptions({
    queryKey: ["windows", feed, state],
    queryFn: () => call<DueWindow[]>("GET", `/api/v1/feeds/${part(feed)}/windows?limit=200${state ? `&state=${state}` : ""}`),
    ...live(3000),
  });

export const windowsAgain = (feed: string, from: string, until: string) =>
  call<Counted>("POST", `/api/v1/feeds/${part(feed)}/windows/retry`, { from, until });

export const backfillsQuery = (feed: string) =>
  queryOptions({
    queryKey: ["backfills", feed],
    queryFn: () => call<Backfill[]>("GET", `/api/v1/backfills?feed=${part(feed)}`),
    ...live(2000),
  });

export const askBackfill = (feed: string, from: string, until: string, length: string) =>
  call<Backfill>("POST", `/api/v1/feeds/${part(feed)}/backfills`, { from, until, length });

export const moveBackfill = (backfill: number, to: "pause" | "resume" | "cancel") =>
  call<Backfill>("POST", `/api/v1/backfills/${backfill}/${to}`);

// Definitions

export const versionsQuery = (kind: string, name: string) =>
  queryOptions({
    queryKey: ["versions", kind, name],
    queryFn: () => call<Version[]>("GET", `/api/v1/definitions/${kind}/${part(name)}/versions`),
  });

export const revert = (kind: string, name: string, version: number) =>
  call<ApplyResult>("POST", `/api/v1/definitions/${kind}/${part(name)}/revert`, { version });

/** All of them at once, or, with `dryRun`, what that would do. */
export const applyFiles = (files: Record<string, string>, dryRun: boolean) =>
  call<ApplyResult[]>("POST", "/api/v1/basket", { files, dry_run: dryRun });

/** What is in force, as it was written: {file: YAML}. */
export const exportBasket = () => call<Record<string, string>>("GET", "/api/v1/basket");

export const definitionOf = (kind: string, name: string) => call<Definition>("GET", `/api/v1/definitions/${kind}/${part(name)}`);

export const formsQuery = () =>
  queryOptions({ queryKey: ["forms"], queryFn: () => call<Form[]>("GET", "/api/v1/forms"), staleTime: Number.POSITIVE_INFINITY });

export const definitionsQuery = () =>
  queryOptions({ queryKey: ["definitions"], queryFn: () => call<Definition[]>("GET", "/api/v1/definitions") });

// Looks with definitions that are not in force: draft is their YAML

export const checkDraft = (draft: string, source: string) => call<CheckStep[]>("POST", "/api/v1/draft/check", { draft, source });

export const setupOfDraft = (draft: string, source: string) =>
  call<SetupStatement[]>("POST", "/api/v1/draft/setup-sql", { draft, source });

export const surveyDraft = (draft: string, source: string) =>
  call<SurveyedTable[]>("POST", "/api/v1/draft/survey", { draft, source });

export const previewDraft = (draft: string, source: string, table: string) =>
  call<Preview>("POST", "/api/v1/draft/preview", { draft, source, table, rows: 12 });

export const tryDraft = (draft: string, source: string, table: string, pages: number) =>
  call<TrialResult>("POST", "/api/v1/draft/try", { draft, source, table, pages });

export const planDraft = (draft: string, feed: string) => call<Plan>("POST", "/api/v1/draft/plan", { draft, feed });

export const setSecret = (name: string, value: string) => call<void>("PUT", `/api/v1/secrets/${part(name)}`, { value });

// What came in over time

export const activityQuery = (hours: number) =>
  queryOptions({
    queryKey: ["activity", hours],
    queryFn: () => call<Activity>("GET", `/api/v1/activity?hours=${hours}`),
    refetchInterval: 10_000,
    placeholderData: (before: Activity | undefined) => before,
  });

// People, and who heard of what

export const notificationsQuery = () =>
  queryOptions({
    queryKey: ["notifications"],
    queryFn: () => call<Notification[]>("GET", "/api/v1/notifications?limit=200"),
    ...live(5000),
  });

export const notificationsAgain = () => call<Counted>("POST", "/api/v1/notifications/retry");

export const secretsQuery = () =>
  queryOptions({ queryKey: ["secrets"], queryFn: () => call<SecretName[]>("GET", "/api/v1/secrets") });

export const usersQuery = () => queryOptions({ queryKey: ["users"], queryFn: () => call<User[]>("GET", "/api/v1/users") });

export const addUser = (name: string, role: string, password: string) =>
  call<void>("POST", "/api/v1/users", { name, role, password });

export const changeUser = (name: string, change: object) => call<void>("PUT", `/api/v1/users/${part(name)}`, change);

export const settingsQuery = () =>
  queryOptions({ queryKey: ["settings"], queryFn: () => call<Setting[]>("GET", "/api/v1/settings") });

/** null: as the service was started. */
export const changeSetting = (name: string, value: number | null) =>
  call<Setting[]>("PUT", `/api/v1/settings/${part(name)}`, { value });

export const tokensQuery = () => queryOptions({ queryKey: ["tokens"], queryFn: () => call<Token[]>("GET", "/api/v1/tokens") });

export const makeToken = (label: string, role: string) => call<NewToken>("POST", "/api/v1/tokens", { label, role });

export const endToken = (token: string) => call<void>("DELETE", `/api/v1/tokens/${part(token)}`);

export const auditQuery = () =>
  queryOptions({ queryKey: ["audit"], queryFn: () => call<AuditLine[]>("GET", "/api/v1/audit?limit=200"), ...live(5000) });

export const signOut = () => call<unknown>("DELETE", "/api/v1/session");
