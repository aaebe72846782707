import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Activity, ActivityPart, Feed } from "../lib/api-types";
import { chosen, type Matter, matters } from "../lib/attention";
import { ago, count, moment, plural, size } from "../lib/format";
import { activityQuery, feedsQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Bar } from "../ui/Bar";
import { Chart, Spark } from "../ui/Chart";
import { Find } from "../ui/Find";
import { useNow } from "../ui/now";
import { Actions, Page, Section } from "../ui/Page";
import { Unseen } from "../ui/Unseen";
import { Loaded } from "./Loaded";

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(260px, 2fr);
  gap: ${({ theme }) => theme.space.xl};
  align-items: start;
  @media (max-width: 900px) { grid-template-columns: minmax(0, 1fr); }
`;

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  li + li { border-top: 1px solid ${({ theme }) => theme.color.sunken}; }
  li > a, li > p {
    display: grid;
    grid-template-columns: minmax(90px, 150px) 118px minmax(0, 1fr);
    gap: 12px;
    align-items: center;
    margin: 0;
    padding: 6px 12px;
    color: inherit;
    text-decoration: none;
  }
  li > a:hover { background: ${({ theme }) => theme.color.water}; }
  li b, li span { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  li span > span { vertical-align: middle; }
  @media (max-width: 760px) { li > a { grid-template-columns: minmax(0, 1fr) auto; span:last-child { grid-column: 1 / 3; white-space: normal; } } }
`;

const Running = styled(List)`
  li > a { grid-template-columns: minmax(0, 1fr) 90px 80px; }
  span:last-child { text-align: right; }
  @media (max-width: 760px) { li > a { grid-template-columns: minmax(0, 1fr) 90px 80px; span:last-child { grid-column: auto; } } }
`;

const Quiet = styled.p`
  margin: 0;
  color: ${({ theme }) => theme.color.inkSoft};
`;

const Tiles = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(208px, 1fr));
  gap: 6px;
  a {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    gap: 1px 8px;
    padding: 6px 10px;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-left: 4px solid ${({ theme }) => theme.color.good};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
    color: inherit;
    text-decoration: none;
  }
  a:hover { border-color: ${({ theme }) => theme.color.reed}; }
  a[data-tone="bad"] { border-left-color: ${({ theme }) => theme.color.bad}; }
  a[data-tone="warn"] { border-left-color: ${({ theme }) => theme.color.warn}; }
  a[data-tone="busy"] { border-left-color: ${({ theme }) => theme.color.busy}; }
  a[data-tone="plain"] { border-left-color: ${({ theme }) => theme.color.line}; }
  b { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-weight: 600; }
  small { color: ${({ theme }) => theme.color.inkSoft}; white-space: nowrap; }
  svg { grid-column: 1 / 3; }
`;

const Ranges = styled.span`
  display: flex;
  gap: 2px;
  margin-left: auto;
  a { white-space: nowrap; padding: 2px 9px; border-radius: ${({ theme }) => theme.radius}; color: ${({ theme }) => theme.color.inkSoft}; text-decoration: none; }
  a[aria-current] { background: ${({ theme }) => theme.color.sunken}; color: ${({ theme }) => theme.color.ink}; }
`;

const RANGES = [6, 24, 168] as const;
const words = { 6: "6 hours", 24: "24 hours", 168: "7 days" } as const;
const MOST_TILES = 240;
const MOST_MATTERS = 8;

/** What needs somebody, then how fresh everything is, what came in, and what is running. */
export function Home() {
  const feeds = useQuery(feedsQuery());
  const [asked, ask] = useSearchParams();
  const hours = RANGES.find((one) => String(one) === asked.get("hours")) ?? 24;
  const activity = useQuery(activityQuery(hours));
  const now = useNow(5000);
  const put = (name: string, value: string) => {
    const next = new URLSearchParams(asked);
    if (value) next.set(name, value);
    else next.delete(name);
    return next;
  };
  return (
    <Page title="Home" about={feeds.data && inShort(feeds.data, now)}>
      <Loaded query={feeds} what="feeds">
        {(found) =>
          found.length === 0 ? (
            <Begin />
          ) : (
            <>
              <Attention found={matters(found, now)} all={asked.has("all")} more={`?${put("all", "1")}`} />
              <Two>
                <Section>
                  <Actions>
                    <h2>Rows loaded</h2>
                    <small>{activity.data && summed(activity.data)}</small>
                    <Ranges>
                      {RANGES.map((one) => (
                        <Link
                          key={one}
                          to={`?${put("hours", one === 24 ? "" : String(one))}`}
                          aria-current={one === hours || undefined}
                        >
                          {words[one]}
                        </Link>
                      ))}
                    </Ranges>
                  </Actions>
                  <Loaded query={activity} what="rows loaded">
                    {(shown) => <Volume activity={shown} label={words[hours]} />}
                  </Loaded>
                </Section>
                <Section>
                  <Actions>
                    <h2>Running now</h2>
                  </Actions>
                  <Now feeds={found.filter((feed) => feed.activity !== "idle")} />
                </Section>
              </Two>
              <Section>
                <Actions>
                  <h2>Freshness</h2>
                  <small>{`rows each loaded in the last ${words[hours]}, and when it last succeeded`}</small>
                  <Find
                    label="Find feeds"
                    hint={`Find one of ${count(found.length)}`}
                    words={asked.get("find") ?? ""}
                    find={(text) => ask(put("find", text), { replace: true })}
                    width={190}
                  />
                </Actions>
                <Fresh feeds={chosen(found, "", asked.get("find") ?? "")} activity={activity.data} now={now} />
              </Section>
            </>
          )
        }
      </Loaded>
    </Page>
  );
}

function inShort(feeds: Feed[], now: number): string {
  const wrong = matters(feeds, now).length;
  const busy = feeds.filter((feed) => feed.activity !== "idle").length;
  if (feeds.length === 0) return "Nothing is set up yet.";
  const health =
    wrong === 0
      ? feeds.length === 1
        ? "The feed is healthy"
        : `All ${count(feeds.length)} feeds are healthy`
      : `${count(wrong)} of ${plural(feeds.length, "feed")} ${wrong === 1 ? "needs" : "need"} attention`;
  return `${health}${busy ? `, ${count(busy)} running` : ""}.`;
}

const summed = (activity: Activity): string => {
  const sum = (name: "written" | "bytes" | "runs" | "failed") => activity.parts.reduce((all, part) => all + part[name], 0);
  return `${plural(sum("written"), "row")} written, ${size(sum("bytes"))}, ${plural(sum("runs"), "run")}${sum("failed") ? `, ${count(sum("failed"))} failed` : ""}`;
};

function Begin() {
  return (
    <Section>
      <p>
        Nothing is loaded yet. <Link to="/new">Make a feed</Link>: choose a source, survey its tables, and choose what to load. Or
        apply a folder of definitions with <code>reed apply FOLDER</code>.
      </p>
    </Section>
  );
}

function Attention({ found, all, more }: { found: Matter[]; all: boolean; more: string }) {
  const shown = all ? found : found.slice(0, MOST_MATTERS);
  return (
    <Section>
      <h2>
        Needs attention <small>{found.length > shown.length && <Link to={more}>{`show all ${count(found.length)}`}</Link>}</small>
      </h2>
      {found.length === 0 ? (
        <Quiet>Nothing: no feed failed, is late, or has rejects or changes that nobody has seen to.</Quiet>
      ) : (
        <List aria-label="Needs attention">
          {shown.map((matter) => (
            <li key={matter.feed.name}>
              <Link to={matter.to}>
                <b>{matter.feed.name}</b>
                <span>
                  <Badge word={matter.word} tone={matter.tone} />
                </span>
                <span title={matter.words}>{matter.words}</span>
              </Link>
            </li>
          ))}
        </List>
      )}
    </Section>
  );
}

const clock = (time: string, days: boolean): string => (days ? moment(time).slice(5, 16) : moment(time).slice(11, 16));

function Volume({ activity, label }: { activity: Activity; label: string }) {
  const { parts } = activity;
  const days = parts.length * activity.step_seconds > 2 * 86_400;
  const title = (part: ActivityPart) =>
    `${moment(part.at).slice(0, 16)}: ${plural(part.written, "row")} written of ${count(part.read)} read, ${plural(part.runs, "run")}${part.failed ? `, ${part.failed} failed` : ""}`;
  const places = [0, 0.25, 0.5, 0.75, 1].map((share) => Math.round(share * (parts.length - 1)));
  const empty = parts.filter((part) => part.written === 0).length;
  return (
    <Chart
      label={`Rows written in the last ${label}, by ${activity.step_seconds / 60} minutes: ${summed(activity)}; nothing in ${count(empty)} of ${count(parts.length)} parts`}
      bars={parts.map((part) => ({ value: part.written, failed: part.failed, title: title(part) }))}
      marks={places.map((place) => clock(parts[place]?.at ?? "", days))}
      unit={(value) => (value >= 10_000 ? `${count(value / 1000)}k` : count(value))}
    />
  );
}

function Now({ feeds }: { feeds: Feed[] }) {
  if (feeds.length === 0) return <Quiet>Nothing runs just now.</Quiet>;
  return (
    <Running aria-label="Running now">
      {feeds.slice(0, 8).map((feed) => {
        const run = feed.last_run;
        const tables = run?.tables ?? [];
        const taken = tables.reduce((all, table) => all + table.read + table.repeated, 0);
        const known = tables.length > 0 && tables.every((table) => table.expected !== null);
        const most = known ? tables.reduce((all, table) => all + (table.expected ?? 0), 0) : null;
        return (
          <li key={feed.name}>
            <Link to={run ? `/runs/${run.id}` : `/feeds/${feed.name}`}>
              <b>{feed.name}</b>
              {feed.activity === "running" ? (
                <Bar label={`Progress of ${feed.name}`} value={taken} most={most} state="reading" />
              ) : (
                <Badge word={feed.activity} />
              )}
              <span>{feed.activity === "running" ? plural(taken, "row") : ""}</span>
            </Link>
          </li>
        );
      })}
      {feeds.length > 8 && (
        <li>
          <Link to="/feeds?show=running">{`and ${count(feeds.length - 8)} more`}</Link>
        </li>
      )}
    </Running>
  );
}

const tone = (feed: Feed): string => {
  if (feed.late || feed.last_run?.outcome === "failed" || feed.last_run?.outcome === "interrupted") return "bad";
  if (feed.activity !== "idle") return "busy";
  if (feed.schedule.paused || feed.rejects > 0) return "warn";
  return feed.fresh_at === null ? "plain" : "good";
};

const inWords = {
  bad: "failed or late",
  busy: "running or queued",
  warn: "paused, or with rejects",
  plain: "never run",
  good: "fresh",
} as Record<string, string>;

function Fresh({ feeds, activity, now }: { feeds: Feed[]; activity: Activity | undefined; now: number }) {
  const shown = feeds.slice(0, MOST_TILES);
  return (
    <>
      <Tiles aria-label="Freshness">
        {shown.map((feed) => (
          <li key={feed.name}>
            <Link to={`/feeds/${feed.name}`} data-tone={tone(feed)}>
              <b>
                {feed.name} <Unseen>{inWords[tone(feed)]}</Unseen>
              </b>
              <small>{ago(feed.fresh_at, now)}</small>
              <Spark values={activity?.feeds[feed.name] ?? activity?.parts.map(() => 0) ?? []} />
            </Link>
          </li>
        ))}
      </Tiles>
      {feeds.length === 0 && <Quiet>No match.</Quiet>}
      {feeds.length > shown.length && (
        <Quiet>
          {`The first ${count(shown.length)} of ${count(feeds.length)}. `}
          <Link to="/feeds">All of them</Link>
        </Quiet>
      )}
    </>
  );
}
