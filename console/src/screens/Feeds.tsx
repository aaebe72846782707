import { useQuery } from "@tanstack/react-query";
import type { Feed } from "../lib/api-types";
import { ago, between, count } from "../lib/format";
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
              { name: "Feed", show: (feed) => <b>{feed.name}</b>, width: "15%" },
              { name: "State", show: (feed) => <Badge word={feed.activity} />, width: "9%" },
              { name: "Last run", show: (feed) => <Badge word={feed.last_run?.outcome ?? "never run"} />, width: "11%" },
              { name: "Fresh", show: (feed) => ago(feed.fresh_at, now), width: "10%" },
              {
                name: "Took",
                show: (feed) => (feed.last_run ? between(feed.last_run.started_at, feed.last_run.ended_at, now) : ""),
                end: true,
                width: "8%",
              },
              { name: "Read", show: (feed) => (feed.last_run ? count(feed.last_run.totals.read) : ""), end: true, width: "8%" },
              { name: "Rejects", show: (feed) => count(feed.rejects), end: true, width: "7%" },
              { name: "Tables", show: (feed) => feed.tables.length, end: true, width: "7%" },
              { name: "From → into", show: (feed) => `${feed.source} → ${feed.warehouse}`, width: "16%" },
              { name: "\u00a0", show: (feed) => <RunButton feed={feed} look="plain" />, end: true, width: "10%" },
            ]}
          />
        )}
      </Loaded>
    </Page>
  );
}
