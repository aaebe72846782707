import { useQuery } from "@tanstack/react-query";
import type { Feed } from "../lib/api-types";
import { ago, between, count, nextOf, stateOf } from "../lib/format";
import { feedsQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Page } from "../ui/Page";
import { Loaded } from "./Loaded";
import { RunButton } from "./RunButton";

export function Feeds() {
  const feeds = useQuery(feedsQuery());
  const now = useNow();
  return (
    <Page title="Feeds" about="What is brought, from where, into which warehouse.">
      <Loaded query={feeds} what="feeds">
        {(found) => (
          <Grid<Feed>
            label="Feeds"
            rows={found}
            id={(feed) => feed.name}
            href={(feed) => `/feeds/${feed.name}`}
            empty={
              <>
                No feeds yet. Apply a basket: <code>reed apply FOLDER</code>
              </>
            }
            columns={[
              { name: "Feed", show: (feed) => <b>{feed.name}</b>, width: "14%" },
              { name: "State", show: (feed) => <Badge word={stateOf(feed)} tone={stateOf(feed) === "paused" ? "warn" : undefined} />, width: "8%" },
              { name: "Last run", show: (feed) => <Badge word={feed.last_run?.outcome ?? "never run"} />, width: "10%" },
              {
                name: "Fresh",
                show: (feed) => (feed.late ? <Badge word={`${ago(feed.fresh_at, now)}, late`} tone="bad" /> : ago(feed.fresh_at, now)),
                width: "10%",
              },
              { name: "Next", show: (feed) => <span title={nextOf(feed, now)}>{nextOf(feed, now)}</span>, width: "13%" },
              {
                name: "Took",
                show: (feed) => (feed.last_run ? between(feed.last_run.started_at, feed.last_run.ended_at, now) : ""),
                end: true,
                width: "7%",
              },
              { name: "Read", show: (feed) => (feed.last_run ? count(feed.last_run.totals.read) : ""), end: true, width: "7%" },
              { name: "Rejects", show: (feed) => count(feed.rejects), end: true, width: "6%" },
              { name: "From → into", show: (feed) => <span title={`${feed.source} → ${feed.warehouse}`}>{`${feed.source} → ${feed.warehouse}`}</span>, width: "16%" },
              { name: "\u00a0", show: (feed) => <RunButton feed={feed} look="plain" />, end: true, width: "9%" },
            ]}
          />
        )}
      </Loaded>
    </Page>
  );
}
