import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useReducer } from "react";
import { Link, useParams } from "react-router";
import styled from "styled-components";
import type { LedgerLine, LogLine, Run as RunFacts, TableProgress } from "../lib/api-types";
import { between, count, duration, moment, plural, size } from "../lib/format";
import { follow, MOST_LINES, reduce, start } from "../lib/live";
import { cancelRun, runLedgerQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Bar } from "../ui/Bar";
import { Button } from "../ui/Button";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Fact, Facts, Page, Section } from "../ui/Page";
import { Hint, Trouble, Waiting } from "../ui/States";
import { Tabs } from "../ui/Tabs";
import { ledgerColumns } from "./ledgerColumns";
import { Requests } from "./Requests";
import { StepsView } from "./StepsView";
import { Throughput } from "./Throughput";

export function Run() {
  const { run = "" } = useParams();
  // A new run starts with nothing of the last one's.
  return <OneRun key={run} id={Number(run)} />;
}

/** Why it is there, and what of the source it takes. */
function why(run: RunFacts): string {
  const words = [
    run.backfill
      ? `backfill ${run.backfill}`
      : run.trigger === "manual"
        ? `started${run.asked_by ? ` by ${run.asked_by}` : " by hand"}`
        : run.trigger === "upstream"
          ? "started after the feed it follows"
          : `started by its ${run.trigger}`,
  ];
  if (run.window) words.push(`${run.window[0]} to ${run.window[1]}`.replaceAll("T00:00:00Z", ""));
  const sets = Object.entries(run.sets).map(([name, value]) => `${name}=${String(value)}`);
  if (sets.length > 0) words.push(`with ${sets.join(", ")}`);
  return words.join(", ");
}

function OneRun({ id }: { id: number }) {
  const [live, tell] = useReducer(reduce, start);
  useEffect(() => follow(id, tell), [id]);
  const now = useNow();
  const cancel = useMutation({ mutationFn: () => cancelRun(id) });
  const run = live.run;
  if (run === null) {
    return (
      <Page title={`Run ${id}`}>
        {live.connection === "lost" ? (
          <Trouble facts={{ message: `There is no run ${id}, or the service does not answer.` }} />
        ) : (
          <Waiting what="the run" />
        )}
      </Page>
    );
  }
  const active = run.outcome === "queued" || run.outcome === "running";
  const done = run.tables.filter((table) => table.phase === "done").length;
  return (
    <Page
      title={`Run ${id}`}
      about={
        <>
          <Link to={`/feeds/${run.feed}`}>{run.feed}</Link>, version {run.feed_version}
          {`, ${why(run)}`}
          {run.extract && (
            <>
              , into <Link to={`/feeds/${run.feed}?tab=extracts`}>an extract</Link>
            </>
          )}
          {run.resumes !== null && (
            <>
              , {run.attempt > 1 ? `attempt ${run.attempt} after` : "takes up"}{" "}
              <Link to={`/runs/${run.resumes}`}>run {run.resumes}</Link>
            </>
          )}
        </>
      }
      actions={
        <Button onPress={() => cancel.mutate()} isDisabled={!active} isPending={cancel.isPending}>
          Cancel
        </Button>
      }
    >
      {live.connection === "lost" && (
        <Hint>The connection to the service broke; what is shown is the latest that came. Trying again …</Hint>
      )}
      {run.error && <Trouble facts={run.error} />}
      {run.tables
        .filter((table) => table.waiting !== "" && active)
        .map((table) => (
          <Hint key={table.table}>{`${table.table} waits ${untilIn(table.waiting)}`}</Hint>
        ))}
      <Facts>
        <Fact name="Outcome">
          <span role="status" aria-label={`Outcome ${run.outcome}, ${done} of ${run.tables.length} tables done`}>
            <Badge word={run.outcome} />
          </span>
        </Fact>
        <Fact name="Started">{moment(run.started_at) || "not yet"}</Fact>
        <Fact name="Duration">{between(run.started_at, run.ended_at, now)}</Fact>
        <Fact name="Read">{count(run.totals.read)}</Fact>
        <Fact name="Inserted">{count(run.totals.inserted)}</Fact>
        <Fact name="Updated">{count(run.totals.updated)}</Fact>
        <Fact name="Deleted">{count(run.totals.deleted)}</Fact>
        <Fact name="Unchanged">{count(run.totals.unchanged)}</Fact>
        <Fact name="Already loaded">{count(run.totals.repeated)}</Fact>
        <Fact name="Rejected">{count(run.totals.rejected)}</Fact>
        <Fact name="Requests">{count(run.totals.requests)}</Fact>
        <Fact name="Received">{size(run.totals.source_bytes)}</Fact>
      </Facts>
      <Section>
        <h2>
          Tables <small>{`${done} of ${plural(run.tables.length, "table")} done`}</small>
        </h2>
        <Grid<TableProgress>
          label="Tables"
          rows={run.tables}
          id={(table) => `${table.table} ${table.warehouse}`}
          columns={tableColumns}
          empty="Not begun yet."
        />
      </Section>
      <Tabs
        label="About the run"
        items={[
          { id: "log", title: "Log", body: <Log lines={live.lines} cut={live.cut} /> },
          { id: "requests", title: "Requests", body: <Requests run={id} feed={run.feed} active={active} all={run.bodies} /> },
          { id: "steps", title: "Steps", body: <Steps run={id} tables={run.tables} active={active} /> },
          { id: "throughput", title: "Throughput", body: <Throughput run={id} active={active} /> },
          { id: "ledger", title: "Ledger", body: <Ledger run={id} active={active} /> },
        ]}
      />
    </Page>
  );
}

/** "until 2026-03-02T06:00:05Z: why" in the reader's own zone. */
const untilIn = (waiting: string) => waiting.replace(/\S+Z/, (time) => moment(time).slice(11));

const taken = (table: TableProgress) => table.read + table.repeated + table.held_back;

const left = (table: TableProgress) => {
  const moving = table.phase === "reading" || table.phase === "committing";
  if (!moving || table.expected === null || taken(table) === 0 || taken(table) >= table.expected) return "";
  return duration((table.seconds * (table.expected - taken(table))) / taken(table));
};

const tableColumns = [
  {
    name: "Table",
    show: (table: TableProgress) => (
      <>
        <b>{table.target}</b>
        {table.warehouse && <small>{`in ${table.warehouse}`}</small>}
      </>
    ),
    width: "15%",
  },
  { name: "Phase", show: (table: TableProgress) => <Badge word={table.phase} />, width: "11%" },
  {
    name: "Progress",
    show: (table: TableProgress) => (
      <Bar label={`Progress of ${table.target}`} value={taken(table)} most={table.expected} state={table.phase} />
    ),
    width: "14%",
  },
  { name: "Read", show: (table: TableProgress) => count(table.read), end: true, width: "8%" },
  { name: "Inserted", show: (table: TableProgress) => count(table.inserted), end: true, width: "8%" },
  { name: "Updated", show: (table: TableProgress) => count(table.updated), end: true, width: "8%" },
  {
    name: "Rows/s",
    show: (table: TableProgress) => (table.seconds > 0 && table.read > 0 ? count(Math.round(table.read / table.seconds)) : ""),
    end: true,
    width: "8%",
  },
  { name: "Requests", show: (table: TableProgress) => count(table.requests), end: true, width: "8%" },
  { name: "Received", show: (table: TableProgress) => size(table.source_bytes), end: true, width: "9%" },
  {
    name: "Waited",
    show: (table: TableProgress) => (table.waited_seconds >= 0.05 ? duration(table.waited_seconds) : ""),
    end: true,
    width: "8%",
  },
  { name: "Time left", show: left, end: true, width: "9%" },
];

const Lines = styled.ol`
  list-style: none;
  margin: 0;
  padding: ${({ theme }) => `${theme.space.s} 0`};
  height: 38vh;
  overflow: auto;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  font: ${({ theme }) => theme.size.tiny}/1.6 ${({ theme }) => theme.font.mono};
  li { display: grid; grid-template-columns: 92px 96px minmax(0, 1fr); gap: 8px; padding: 0 10px; }
  li > :first-child { color: ${({ theme }) => theme.color.inkFaint}; }
  li > :last-child { overflow-wrap: anywhere; }
  li[data-level="warning"] { background: ${({ theme }) => theme.color.warnSoft}; }
  li[data-level="error"] { background: ${({ theme }) => theme.color.badSoft}; }
`;

/** Newest first, so that what happens now stands where the eye is, and nothing scrolls away underneath. */
function Log({ lines, cut }: { lines: LogLine[]; cut: number }) {
  return (
    <Section>
      <Lines aria-label="Log" tabIndex={0}>
        {[...lines].reverse().map((line) => (
          <li key={line.number} data-level={line.level}>
            <span>
              {moment(line.at).slice(11)}
              {line.at.slice(19, 23)}
            </span>
            <span>{line.table ?? ""}</span>
            <span>{line.message}</span>
          </li>
        ))}
      </Lines>
      {cut > 0 && (
        <small>{`${plural(cut, "older line")} not shown here (the page keeps ${count(MOST_LINES)}); reed log prints all.`}</small>
      )}
    </Section>
  );
}

function Steps({ run, tables, active }: { run: number; tables: TableProgress[]; active: boolean }) {
  const ledger = useQuery(runLedgerQuery(run, active));
  return <StepsView tables={tables} lines={ledger.data ?? []} />;
}

function Ledger({ run, active }: { run: number; active: boolean }) {
  const ledger = useQuery(runLedgerQuery(run, active));
  return (
    <Grid<LedgerLine>
      label="Ledger of the run"
      rows={ledger.data ?? []}
      id={(line) => `${line.warehouse}-${line.load}`}
      columns={ledgerColumns(ledger.data ?? [])}
      empty={active ? "Nothing committed yet." : "This run found nothing new, so it committed nothing."}
    />
  );
}
