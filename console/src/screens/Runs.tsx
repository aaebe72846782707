import { useQuery } from "@tanstack/react-query";
import type { Run } from "../lib/api-types";
import { between, count, moment } from "../lib/format";
import { runsQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Page } from "../ui/Page";
import { Loaded } from "./Loaded";

export function Runs() {
  const runs = useQuery(runsQuery());
  return (
    <Page title="Runs" about="The latest 50, newest first.">
      <Loaded query={runs} what="runs">
        {(found) => <RunsGrid runs={found} />}
      </Loaded>
    </Page>
  );
}

/** Why it is there and what it takes, or what went wrong. */
function remark(run: Run): string {
  const words: string[] = [];
  if (run.error) words.push(run.error.found);
  if (run.attempt > 1) words.push(`attempt ${run.attempt}`);
  else if (run.resumes !== null) words.push(`continues run ${run.resumes}`);
  if (run.window)
    words.push(run.window.map((time) => time.replace("T00:00:00Z", "").replace(/:00Z$/, "").replace("T", " ")).join(" to "));
  return words.join("; ");
}

export function RunsGrid({ runs }: { runs: Run[] }) {
  const now = useNow();
  return (
    <Grid<Run>
      label="Runs"
      rows={runs}
      id={(run) => run.id}
      href={(run) => `/runs/${run.id}`}
      empty="No runs yet."
      columns={[
        { name: "Run", show: (run) => <b>{run.id}</b>, end: true, width: "5%" },
        { name: "Feed", show: (run) => <span title={run.feed}>{run.feed}</span>, width: "12%" },
        { name: "Outcome", show: (run) => <Badge word={run.outcome} />, width: "10%" },
        { name: "Trigger", show: (run) => (run.backfill ? `backfill ${run.backfill}` : run.trigger), width: "9%" },
        { name: "Started", show: (run) => moment(run.started_at ?? run.requested_at), width: "15%" },
        { name: "Duration", show: (run) => between(run.started_at, run.ended_at, now), end: true, width: "8%" },
        { name: "Read", show: (run) => count(run.totals.read), end: true, width: "7%" },
        { name: "Inserted", show: (run) => count(run.totals.inserted), end: true, width: "7%" },
        { name: "Updated", show: (run) => count(run.totals.updated), end: true, width: "7%" },
        { name: "Rejected", show: (run) => count(run.totals.rejected), end: true, width: "7%" },
        { name: "Remark", show: (run) => <span title={remark(run)}>{remark(run)}</span>, width: "14%" },
      ]}
    />
  );
}
