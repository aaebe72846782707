// Keys and fetch functions together; components write neither.
import { queryOptions } from "@tanstack/react-query";
import { call } from "./api";
import type {
  Again, CheckStep, Drift, Feed, FileLine, LedgerLine, Peek, Plan, Profile, Reject, RequestLine, Rows, Run, SentThere,
  SetupStatement, Source, SurveyedTable, Table, VerifiedTable, Warehouse,
} from "./api-types";

const part = encodeURIComponent;

export const feedsQuery = () =>
  queryOptions({ queryKey: ["feeds"], queryFn: () => call<Feed[]>("GET", "/api/v1/feeds"), refetchInterval: 3000 });

export const feedQuery = (feed: string) =>
  queryOptions({
    queryKey: ["feeds", feed],
    queryFn: () => call<Feed>("GET", `/api/v1/feeds/${part(feed)}`),
    refetchInterval: 3000,
  });

export const feedRunsQuery = (feed: string) =>
  queryOptions({
    queryKey: ["runs", { feed }],
    queryFn: () => call<Run[]>("GET", `/api/v1/runs?limit=25&feed=${part(feed)}`),
    refetchInterval: 3000,
  });

export const ledgerQuery = (feed: string) =>
  queryOptions({
    queryKey: ["ledger", feed],
    queryFn: () => call<LedgerLine[]>("GET", `/api/v1/feeds/${part(feed)}/ledger?limit=100`),
    refetchInterval: 5000,
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
    refetchInterval: 5000,
  });

/** The latest files taken, or only those that could not be read. */
export const filesQuery = (feed: string, bad: boolean, limit: number) =>
  queryOptions({
    queryKey: ["files", feed, bad, limit],
    queryFn: () => call<FileLine[]>("GET", `/api/v1/feeds/${part(feed)}/files?limit=${limit}${bad ? "&state=bad" : ""}`),
    refetchInterval: 5000,
  });

export const askFilesAgain = (feed: string, table: string, files: string[]) =>
  call<Again>("POST", `/api/v1/feeds/${part(feed)}/rewind`, { table, files });

/** Reads the source from its beginning; made when asked for. */
export const verifyFeed = (feed: string, deep: boolean) =>
  call<VerifiedTable[]>("POST", `/api/v1/feeds/${part(feed)}/verify`, { deep });

export const runsQuery = () =>
  queryOptions({ queryKey: ["runs"], queryFn: () => call<Run[]>("GET", "/api/v1/runs?limit=50"), refetchInterval: 3000 });

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

export const requestsFile = (run: number) => `/api/v1/runs/${run}/requests.ndjson`;

export const sourcesQuery = () =>
  queryOptions({ queryKey: ["sources"], queryFn: () => call<Source[]>("GET", "/api/v1/sources"), refetchInterval: 5000 });

export const sourceQuery = (source: string) =>
  queryOptions({
    queryKey: ["sources", source],
    queryFn: () => call<Source>("GET", `/api/v1/sources/${part(source)}`),
    refetchInterval: 5000,
  });

// These three ask the source; they are made when asked for, not in passing.
export const checkSource = (source: string) => call<CheckStep[]>("POST", `/api/v1/sources/${part(source)}/check`);

export const surveySource = (source: string) => call<SurveyedTable[]>("POST", `/api/v1/sources/${part(source)}/survey`, {});

export const setupSql = (source: string) => call<SetupStatement[]>("POST", `/api/v1/sources/${part(source)}/setup-sql`);

export const peekAt = (source: string, table: string, rows: number, wire: boolean) =>
  call<Peek>("POST", `/api/v1/sources/${part(source)}/tables/${part(table)}/peek`, { rows, wire });

export const peekAtFiles = (source: string, files: string, rows: number) =>
  call<Peek>("POST", `/api/v1/sources/${part(source)}/peek-files`, { files, rows });

/** Where a person goes to sign in at the source. */
export const signInThere = (source: string) => call<SentThere>("POST", `/api/v1/sources/${part(source)}/sign-in`);

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
      call<Rows>(
        "GET",
        `/api/v1/warehouses/${part(warehouse)}/tables/${part(table)}/rows?limit=${limit}&offset=${offset}`,
      ),
    placeholderData: (before: Rows | undefined) => before,
  });

export const askSql = (warehouse: string, sql: string) =>
  call<Rows>("POST", `/api/v1/warehouses/${part(warehouse)}/query`, { sql, limit: 200 });

export const askRun = (feed: string) => call<Run>("POST", "/api/v1/runs", { feed });

/** The feed's rejects once more, in place of asking the source. */
export const askReplay = (feed: string) => call<Run>("POST", "/api/v1/runs", { feed, again: true });

export const cancelRun = (run: number) => call<Run>("POST", `/api/v1/runs/${run}/cancel`);

export const signIn = (code: string) => call<unknown>("POST", "/api/v1/session", { code });

export const signOut = () => call<unknown>("DELETE", "/api/v1/session");
