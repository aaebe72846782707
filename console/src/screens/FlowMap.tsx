import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useHref, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Feed, Source, Warehouse } from "../lib/api-types";
import { chosen } from "../lib/attention";
import { afterOf, type Edge, type Flow, layOut, type Node } from "../lib/flow";
import { count, intoOf, plural, stateOf } from "../lib/format";
import { feedsQuery, sourcesQuery, warehousesQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Find } from "../ui/Find";
import { Grid } from "../ui/Grid";
import { Actions, Page } from "../ui/Page";
import { Loaded } from "./Loaded";
import { stateOf as sourceState } from "./Sources";

const Canvas = styled.div`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  overflow: auto;
  max-height: calc(100vh - 170px);
  svg { display: block; width: 100%; min-width: 620px; }
  rect { fill: ${({ theme }) => theme.color.water}; stroke: ${({ theme }) => theme.color.line}; }
  a { cursor: pointer; outline: none; }
  a:hover rect, a:focus-visible rect { stroke: ${({ theme }) => theme.color.focus}; stroke-width: 2; }
  a[data-tone="bad"] rect { fill: ${({ theme }) => theme.color.badSoft}; stroke: ${({ theme }) => theme.color.bad}; }
  a[data-tone="warn"] rect { fill: ${({ theme }) => theme.color.warnSoft}; stroke: ${({ theme }) => theme.color.warn}; }
  a[data-tone="busy"] rect { fill: ${({ theme }) => theme.color.busySoft}; stroke: ${({ theme }) => theme.color.busy}; }
  a[data-tone="good"] rect { fill: ${({ theme }) => theme.color.goodSoft}; stroke: ${({ theme }) => theme.color.good}; }
  text { fill: ${({ theme }) => theme.color.ink}; font-size: 12.5px; }
  text[data-kind="head"], text[data-kind="under"] { fill: ${({ theme }) => theme.color.inkSoft}; font-size: 11.5px; }
  path { fill: none; stroke: ${({ theme }) => theme.color.line}; stroke-width: 1.5; }
  path[data-kind="after"] { stroke: ${({ theme }) => theme.color.busy}; stroke-dasharray: 4 3; }
  path[data-lit="true"] { stroke: ${({ theme }) => theme.color.reed}; stroke-width: 2.5; }
  g[data-dim="true"] { opacity: 0.35; }
`;

const [TOP, SIDE, WIDTH] = [34, 14, 1040];

interface Shown {
  tone: string;
  state: string;
  under: string;
  to: string;
}

/** Where everything comes from and goes to; with hundreds of feeds, those that are looked for. */
export function FlowMap() {
  const feeds = useQuery(feedsQuery());
  const sources = useQuery(sourcesQuery());
  const warehouses = useQuery(warehousesQuery());
  const [asked, ask] = useSearchParams();
  const words = asked.get("find") ?? "";
  const asList = asked.get("as") === "list";
  const put = (name: string, value: string) => {
    const next = new URLSearchParams(asked);
    if (value) next.set(name, value);
    else next.delete(name);
    ask(next, { replace: true });
  };
  return (
    <Page title="Map" about="Sources, the feeds that read them, those that wait for others, and the warehouses they load into.">
      <Loaded query={feeds} what="feeds">
        {(found) => (
          <Loaded query={sources} what="sources">
            {(from) => (
              <Loaded query={warehouses} what="warehouses">
                {(into) => {
                  const some = chosen(found, "", words);
                  return (
                    <>
                      <Actions>
                        <Find
                          label="Find feeds"
                          hint={`Find some of ${count(found.length)}`}
                          words={words}
                          find={(text) => put("find", text)}
                          width={220}
                        />
                        <Button look="quiet" onPress={() => put("as", asList ? "" : "list")}>
                          {asList ? "Show as a map" : "Show as a list"}
                        </Button>
                        <small>{`${plural(some.length, "feed")}; a dashed line: one waits for the other`}</small>
                      </Actions>
                      {some.length === 0 ? (
                        <p>No match.</p>
                      ) : asList ? (
                        <AsList feeds={some} />
                      ) : (
                        <Drawing feeds={some} sources={from} warehouses={into} />
                      )}
                    </>
                  );
                }}
              </Loaded>
            )}
          </Loaded>
        )}
      </Loaded>
    </Page>
  );
}

function feedTone(feed: Feed): string {
  if (feed.activity !== "idle") return "busy";
  if (feed.late || feed.last_run?.outcome === "failed" || feed.last_run?.outcome === "interrupted") return "bad";
  if (feed.rejects > 0 || feed.schedule.paused) return "warn";
  return feed.fresh_at ? "good" : "plain";
}

function shownAs(node: Node, feeds: Feed[], sources: Source[], warehouses: Warehouse[]): Shown {
  if (node.kind === "feed") {
    const feed = feeds.find((one) => one.name === node.name)!;
    const state = feed.activity === "idle" ? (feed.late ? "late" : (feed.last_run?.outcome ?? "never run")) : feed.activity;
    return { tone: feedTone(feed), state, under: state, to: `/feeds/${feed.name}` };
  }
  if (node.kind === "source") {
    const source = sources.find((one) => one.name === node.name)!;
    const state = sourceState(source);
    return {
      tone: state.tone ?? "plain",
      state: state.word,
      under: state.tone ? state.word : source.connector,
      to: `/sources/${source.name}`,
    };
  }
  if (node.kind === "table") return { tone: "plain", state: `of ${node.of}`, under: "", to: `/feeds/${node.of}?tab=ledger` };
  const warehouse = warehouses.find((one) => one.name === node.name);
  return { tone: "plain", state: warehouse?.type ?? "", under: warehouse?.type ?? "", to: `/warehouses/${node.name}` };
}

const cut = (text: string, most: number): string => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

function Drawing({ feeds, sources, warehouses }: { feeds: Feed[]; sources: Source[]; warehouses: Warehouse[] }) {
  const [near, setNear] = useState<string | null>(null);
  const flow = layOut(feeds, sources, warehouses);
  // All of it fits where it can: boxes grow small, and come closer together, down to where names still can be read.
  const high = flow.rows > 15 ? 21 : 30;
  const wide = flow.columns > 4 ? 166 : 190;
  const step = Math.max(high + 3, Math.min(54, 572 / flow.rows));
  const height = TOP + flow.rows * step + 10;
  const x = (column: number) => SIDE + (column * (WIDTH - 2 * SIDE - wide)) / Math.max(1, flow.columns - 1);
  const inColumn = (column: number) => flow.nodes.filter((node) => node.column === column).length;
  const y = (node: Node) => TOP + ((flow.rows - inColumn(node.column)) * step) / 2 + node.place * step + (step - high) / 2;
  const by = new Map(flow.nodes.map((node) => [node.id, node]));
  const lit = (edge: Edge) => near !== null && (edge.from === near || edge.to === near);
  const touched = new Set(near === null ? [] : [near, ...flow.edges.filter(lit).flatMap((edge) => [edge.from, edge.to])]);
  return (
    <Canvas>
      <svg
        viewBox={`0 0 ${WIDTH} ${height}`}
        role="group"
        aria-label={`Map of ${plural(feeds.length, "feed")}; the list form says the same in words`}
      >
        <Heads flow={flow} x={x} />
        {[...flow.edges]
          .sort((a, b) => Number(lit(a)) - Number(lit(b)))
          .map((edge) => {
            const [from, to] = [by.get(edge.from)!, by.get(edge.to)!];
            const [x1, y1, x2, y2] = [x(from.column) + wide, y(from) + high / 2, x(to.column), y(to) + high / 2];
            const bend = Math.max(26, (x2 - x1) / 2);
            return (
              <path
                key={`${edge.kind} ${edge.from} ${edge.to}`}
                data-kind={edge.kind}
                data-lit={lit(edge)}
                d={`M${x1} ${y1}C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2} ${y2}`}
              />
            );
          })}
        {flow.nodes.map((node) => (
          <Box
            key={node.id}
            node={node}
            shown={shownAs(node, feeds, sources, warehouses)}
            left={x(node.column)}
            top={y(node)}
            wide={wide}
            high={high}
            dim={near !== null && !touched.has(node.id)}
            point={setNear}
          />
        ))}
      </svg>
    </Canvas>
  );
}

function Heads({ flow, x }: { flow: Flow; x: (column: number) => number }) {
  const behind = flow.columns - 3 - (flow.withTables ? 1 : 0);
  const words = [
    "Sources",
    "Feeds",
    ...Array.from({ length: behind }, () => "Feeds that follow them"),
    ...(flow.withTables ? ["Tables"] : []),
    "Warehouses",
  ];
  return (
    <g aria-hidden>
      {words.map((word, column) => (
        <text key={column} data-kind="head" x={x(column)} y={20}>
          {word}
        </text>
      ))}
    </g>
  );
}

interface BoxProps {
  node: Node;
  shown: Shown;
  left: number;
  top: number;
  wide: number;
  high: number;
  dim: boolean;
  point: (id: string | null) => void;
}

/** Letters that a box of that width holds. */
const letters = (wide: number) => Math.floor((wide - 20) / 7.3);

function Box({ node, shown, left, top, wide, high, dim, point }: BoxProps) {
  const navigate = useNavigate();
  const room = letters(wide);
  const under = node.name.length + shown.under.length + 2 <= room ? shown.under : "";
  const name = cut(node.name, room - (under ? under.length + 2 : 0));
  return (
    <g data-dim={dim}>
      <a
        href={useHref(shown.to)}
        data-tone={shown.tone}
        onClick={(event) => {
          event.preventDefault();
          navigate(shown.to);
        }}
        onMouseEnter={() => point(node.id)}
        onMouseLeave={() => point(null)}
        onFocus={() => point(node.id)}
        onBlur={() => point(null)}
      >
        <rect x={left} y={top} width={wide} height={high} rx={5} />
        <text x={left + 10} y={top + high / 2 + 4}>
          {`${name} `}
        </text>
        <text data-kind="under" x={left + wide - 10} y={top + high / 2 + 4} textAnchor="end">
          {under}
        </text>
      </a>
    </g>
  );
}

function AsList({ feeds }: { feeds: Feed[] }) {
  return (
    <Grid<Feed>
      label="Map as a list"
      rows={feeds}
      id={(feed) => feed.name}
      empty="No feeds yet."
      columns={[
        { name: "From", show: (feed) => <Link to={`/sources/${feed.source}`}>{feed.source}</Link>, width: "18%" },
        { name: "Feed", show: (feed) => <Link to={`/feeds/${feed.name}`}>{feed.name}</Link>, width: "20%" },
        {
          name: "State",
          show: (feed) => <Badge word={stateOf(feed) === "idle" ? (feed.last_run?.outcome ?? "never run") : stateOf(feed)} />,
          width: "12%",
        },
        {
          name: "After",
          show: (feed) => afterOf(feed) && <Link to={`/feeds/${afterOf(feed)}`}>{afterOf(feed)}</Link>,
          width: "18%",
        },
        { name: "Into", show: (feed) => <Link to={`/warehouses/${feed.warehouse}`}>{intoOf(feed)}</Link>, width: "14%" },
        { name: "Tables", show: (feed) => <span title={feed.tables.join(", ")}>{feed.tables.join(", ")}</span>, width: "18%" },
      ]}
    />
  );
}
