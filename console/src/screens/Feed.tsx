import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import type { Drift, LedgerLine } from "../lib/api-types";
import { ago, count, intoOf, nextOf, stateOf } from "../lib/format";
import { driftQuery, feedQuery, feedRunsQuery, ledgerQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Fact, Facts, Page } from "../ui/Page";
import { Tabs } from "../ui/Tabs";
import { ChangeButton } from "./ChangeButton";
import { ExtractsView } from "./ExtractsView";
import { FilesView } from "./FilesView";
import { Loaded } from "./Loaded";
import { ledgerColumns } from "./ledgerColumns";
import { PauseButton } from "./PauseButton";
import { PlanView } from "./PlanView";
import { RejectsView } from "./RejectsView";
import { RewindView } from "./RewindView";
import { RunButton } from "./RunButton";
import { RunsGrid } from "./Runs";
import { ScheduleView } from "./ScheduleView";
import { VerifyView } from "./VerifyView";
import { VersionsView } from "./VersionsView";

export function Feed() {
  const { feed = "" } = useParams();
  const found = useQuery(feedQuery(feed));
  const now = useNow();
  return (
    <Page
      title={feed}
      about={found.data?.description}
      actions={
        found.data && (
          <>
            <ChangeButton feed={found.data} />
            <PauseButton feed={found.data} />
            <RunButton feed={found.data} />
          </>
        )
      }
    >
      <Loaded query={found} what="the feed">
        {(data) => (
          <>
            <Facts>
              <Fact name="State">
                <Badge word={stateOf(data)} tone={stateOf(data) === "paused" ? "warn" : undefined} />
              </Fact>
              <Fact name="Last run">
                <Badge word={data.last_run?.outcome ?? "never run"} />
              </Fact>
              <Fact name="Last success">
                {ago(data.fresh_at, now)} {data.late && <Badge word="late" tone="bad" />}
              </Fact>
              {data.schedule.rule !== null && <Fact name="Next">{nextOf(data, now)}</Fact>}
              <Fact name="From">
                {data.source} ({data.connector})
              </Fact>
              <Fact name="Into">{intoOf(data)}</Fact>
              <Fact name="Tables">
                <span title={data.tables.join(", ")}>{data.tables.length}</span>
              </Fact>
              <Fact name="Rejects">{count(data.rejects)}</Fact>
              <Fact name="Version">{data.version}</Fact>
            </Facts>
            <Tabs
              label="About the feed"
              items={[
                { id: "runs", title: "Runs", body: <FeedRuns feed={feed} /> },
                ...(data.connector === "files" ? [{ id: "files", title: "Files", body: <FilesView feed={feed} /> }] : []),
                { id: "schedule", title: "Schedule", body: <ScheduleView feed={data} /> },
                { id: "ledger", title: "Ledger", body: <Ledger feed={feed} /> },
                { id: "plan", title: "Plan", body: <PlanView feed={feed} /> },
                ...(data.connector === "files" ? [] : [{ id: "rewind", title: "Rewind", body: <RewindView feed={data} /> }]),
                { id: "drift", title: "Drift", body: <DriftHistory feed={feed} /> },
                { id: "verify", title: "Verify", body: <VerifyView feed={feed} /> },
                { id: "versions", title: "Versions", body: <VersionsView feed={feed} /> },
                {
                  id: "rejects",
                  title: `Rejects${data.rejects ? ` (${count(data.rejects)})` : ""}`,
                  body: <RejectsView feed={feed} />,
                },
                { id: "extracts", title: "Extracts", body: <ExtractsView feed={data} /> },
              ]}
            />
          </>
        )}
      </Loaded>
    </Page>
  );
}

function FeedRuns({ feed }: { feed: string }) {
  const runs = useQuery(feedRunsQuery(feed));
  return (
    <Loaded query={runs} what="runs">
      {(found) => <RunsGrid runs={found} />}
    </Loaded>
  );
}

function Ledger({ feed }: { feed: string }) {
  const ledger = useQuery(ledgerQuery(feed));
  return (
    <Loaded query={ledger} what="the ledger">
      {(lines) => (
        <Grid<LedgerLine>
          label="Ledger"
          rows={lines}
          id={(line) => `${line.warehouse}-${line.load}`}
          columns={ledgerColumns(lines)}
          empty="No loads yet. The first run writes a line here for each table."
          height="62vh"
        />
      )}
    </Loaded>
  );
}

function DriftHistory({ feed }: { feed: string }) {
  const drift = useQuery(driftQuery(feed));
  const now = useNow();
  return (
    <Loaded query={drift} what="the history of its structure">
      {(found) => (
        <Grid<Drift>
          label="Drift"
          rows={found}
          id={(change) => change.id}
          empty="No drift: the source came as it was expected, as far as it was loaded."
          columns={[
            { name: "When", show: (change) => ago(change.at, now), width: "14%" },
            { name: "Run", show: (change) => change.run, end: true, width: "8%" },
            { name: "Warehouse", show: (change) => change.warehouse, width: "12%" },
            { name: "Table", show: (change) => change.source_table, width: "16%" },
            { name: "What", show: (change) => change.what, width: "12%" },
            { name: "Change", show: (change) => <span title={change.words}>{change.words}</span> },
          ]}
        />
      )}
    </Loaded>
  );
}
