import { useQuery } from "@tanstack/react-query";
import { memo, useDeferredValue } from "react";
import { Link, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Feed } from "../lib/api-types";
import { chosen, groups } from "../lib/attention";
import { ago, between, count, intoOf, nextOf, stateOf } from "../lib/format";
import { feedsQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Find } from "../ui/Find";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Page } from "../ui/Page";
import { Loaded } from "./Loaded";
import { RunButton } from "./RunButton";

const Bar = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: ${({ theme }) => theme.space.s};
  a {
    color: ${({ theme }) => theme.color.inkSoft};
    text-decoration: none;
    padding: 4px 10px;
    border-radius: ${({ theme }) => theme.radius};
    border: 1px solid transparent;
  }
  a:hover { background: ${({ theme }) => theme.color.sunken}; }
  a[aria-current] { background: ${({ theme }) => theme.color.surface}; border-color: ${({ theme }) => theme.color.line}; color: ${({ theme }) => theme.color.ink}; }
  a[data-look="loud"] b { color: ${({ theme }) => theme.color.bad}; }
`;

/** What somebody has to look after. */
const LOUD = new Set(["failing", "late", "windows"]);

const said = (group: string, words: string): string => {
  const asked = new URLSearchParams();
  if (group) asked.set("show", group);
  if (words) asked.set("find", words);
  return asked.toString();
};

export function Feeds() {
  const feeds = useQuery(feedsQuery());
  // In the address, so that a view can be kept and handed on.
  const [asked, ask] = useSearchParams();
  const [group, words] = [asked.get("show") ?? "", asked.get("find") ?? ""];
  const listed = useDeferredValue(words);
  const find = (text: string) => ask(said(group, text), { replace: true });
  return (
    <Page title="Feeds" about="What is loaded, from where, into which warehouse.">
      <Loaded query={feeds} what="feeds">
        {(found) => (
          <>
            {found.length > 0 && (
              <Bar role="group" aria-label="Which feeds">
                <Find label="Find feeds" hint={`Find one of ${count(found.length)}`} words={words} find={find} width={240} />
                <Link to="/feeds" aria-current={group === "" || undefined}>
                  All <b>{count(found.length)}</b>
                </Link>
                {groups
                  .map((one) => ({ ...one, n: found.filter(one.has).length }))
                  .filter((one) => one.n > 0 || one.id === group)
                  .map((one) => (
                    <Link
                      key={one.id}
                      to={`/feeds?${said(one.id, words)}`}
                      aria-current={group === one.id || undefined}
                      data-look={LOUD.has(one.id) ? "loud" : undefined}
                    >
                      {one.title} <b>{count(one.n)}</b>
                    </Link>
                  ))}
              </Bar>
            )}
            <FeedsGrid found={found} group={group} words={listed} />
          </>
        )}
      </Loaded>
    </Page>
  );
}

/** By itself, so that a letter in the search is there before the table has followed. */
const FeedsGrid = memo(function FeedsGrid({ found, group, words }: { found: Feed[]; group: string; words: string }) {
  const now = useNow(found.length > 100 ? 5000 : 1000);
  return (
    <Grid<Feed>
      label="Feeds"
      rows={chosen(found, group, words)}
      id={(feed) => feed.name}
      href={(feed) => `/feeds/${feed.name}`}
      empty={
        found.length > 0 ? (
          "No feed matches. Show all, or change the search."
        ) : (
          <>
            No feeds yet. Apply a basket: <code>reed apply FOLDER</code>
          </>
        )
      }
      columns={[
        { name: "Feed", show: (feed) => <b>{feed.name}</b>, by: (feed) => feed.name, width: "14%" },
        {
          name: "State",
          show: (feed) => <Badge word={stateOf(feed)} tone={stateOf(feed) === "paused" ? "warn" : undefined} />,
          width: "8%",
        },
        { name: "Last run", show: (feed) => <Badge word={feed.last_run?.outcome ?? "never run"} />, width: "10%" },
        {
          name: "Last success",
          show: (feed) => (feed.late ? <Badge word={`${ago(feed.fresh_at, now)}, late`} tone="bad" /> : ago(feed.fresh_at, now)),
          by: (feed) => feed.fresh_at,
          width: "10%",
        },
        { name: "Next", show: (feed) => <span title={nextOf(feed, now)}>{nextOf(feed, now)}</span>, width: "13%" },
        {
          name: "Duration",
          show: (feed) => (feed.last_run ? between(feed.last_run.started_at, feed.last_run.ended_at, now) : ""),
          by: (feed) =>
            feed.last_run?.started_at && feed.last_run.ended_at
              ? Date.parse(feed.last_run.ended_at) - Date.parse(feed.last_run.started_at)
              : null,
          end: true,
          width: "7%",
        },
        {
          name: "Read",
          show: (feed) => (feed.last_run ? count(feed.last_run.totals.read) : ""),
          by: (feed) => feed.last_run?.totals.read ?? null,
          end: true,
          width: "7%",
        },
        { name: "Rejects", show: (feed) => count(feed.rejects), by: (feed) => feed.rejects, end: true, width: "6%" },
        {
          name: "From → into",
          show: (feed) => <span title={`${feed.source} → ${intoOf(feed)}`}>{`${feed.source} → ${intoOf(feed)}`}</span>,
          width: "16%",
        },
        { name: "Run", quiet: true, show: (feed) => <RunButton feed={feed} look="plain" />, end: true, width: "9%" },
      ]}
    />
  );
});
