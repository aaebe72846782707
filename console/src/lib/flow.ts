// Sources, feeds and warehouses as a drawing that lays itself out. Plain functions, tested without a browser.
import type { Feed, Source, Warehouse } from "./api-types";

export interface Node {
  id: string;
  kind: "source" | "feed" | "table" | "warehouse";
  name: string;
  /** Column, from the left; place in it, from the top. */
  column: number;
  place: number;
  /** Of a table: its feed. */
  of?: string;
}

export interface Edge {
  from: string;
  to: string;
  /** What moves: records from a source, rows into tables and warehouses; or one feed waits for another. */
  kind: "reads" | "loads" | "after";
}

export interface Flow {
  nodes: Node[];
  edges: Edge[];
  columns: number;
  /** Places of the longest column. */
  rows: number;
  withTables: boolean;
}

/** Tables are drawn too where there are no more than these; else a feed stands for its own. */
const MOST_TABLES = 26;

export const afterOf = (feed: Feed): string | null => {
  const rule = feed.schedule.rule as { after?: string } | null;
  return rule?.after ?? null;
};

/** How far behind others a feed stands: 0 where it waits for none. What waits for itself, which is refused anyway, ends. */
function depths(feeds: Feed[]): Map<string, number> {
  const by = new Map(feeds.map((feed) => [feed.name, feed]));
  const depth = (name: string, seen: Set<string>): number => {
    const feed = by.get(name);
    const after = feed && afterOf(feed);
    if (!after || !by.has(after) || seen.has(name)) return 0;
    return 1 + depth(after, new Set([...seen, name]));
  };
  return new Map(feeds.map((feed) => [feed.name, depth(feed.name, new Set())]));
}

/** Columns: sources, feeds by how far behind others they stand, their tables, warehouses. In each, what belongs together lies together. */
export function layOut(feeds: Feed[], sources: Source[], warehouses: Warehouse[]): Flow {
  const depth = depths(feeds);
  const deepest = Math.max(0, ...depth.values());
  const usedSources = sources.filter((source) => feeds.some((feed) => feed.source === source.name));
  const usedWarehouses = warehouses.filter((warehouse) =>
    feeds.some((feed) => [feed.warehouse, ...feed.also].includes(warehouse.name)),
  );
  const order = new Map(usedSources.map((source, place) => [source.name, place]));
  const nodes: Node[] = usedSources.map((source, place) => ({
    id: `s:${source.name}`,
    kind: "source",
    name: source.name,
    column: 0,
    place,
  }));
  const placeOf = new Map<string, number>();
  for (let column = 0; column <= deepest; column++) {
    const here = feeds.filter((feed) => depth.get(feed.name) === column);
    const weight = (feed: Feed) => (column === 0 ? (order.get(feed.source) ?? 0) : (placeOf.get(afterOf(feed) ?? "") ?? 0));
    here.sort((a, b) => weight(a) - weight(b) || a.name.localeCompare(b.name));
    here.forEach((feed, place) => {
      placeOf.set(feed.name, place);
      nodes.push({ id: `f:${feed.name}`, kind: "feed", name: feed.name, column: 1 + column, place });
    });
  }
  const many = feeds.reduce((all, feed) => all + feed.tables.length, 0);
  const withTables = many > 0 && many <= MOST_TABLES;
  const last = 2 + deepest + (withTables ? 1 : 0);
  const high = (node: Node) => (node.place + 0.5) / nodes.filter((one) => one.column === node.column).length;
  const drawn = nodes.filter((node) => node.kind === "feed").sort((a, b) => high(a) - high(b) || a.column - b.column);
  const inOrder = drawn.map((node) => feeds.find((feed) => feed.name === node.name)!);
  const tables = withTables ? inOrder.flatMap((feed) => feed.tables.map((table) => ({ feed, table }))) : [];
  tables.forEach(({ feed, table }, place) => {
    nodes.push({ id: `t:${feed.name}.${table}`, kind: "table", name: table, column: last - 1, place, of: feed.name });
  });
  usedWarehouses.forEach((warehouse, place) => {
    nodes.push({ id: `w:${warehouse.name}`, kind: "warehouse", name: warehouse.name, column: last, place });
  });
  const edges: Edge[] = feeds.flatMap((feed) => {
    const after = afterOf(feed);
    const into = [feed.warehouse, ...feed.also].map((name) => `w:${name}`);
    const loads = withTables
      ? feed.tables.flatMap((table) => [
          { from: `f:${feed.name}`, to: `t:${feed.name}.${table}`, kind: "loads" as const },
          ...into.map((to) => ({ from: `t:${feed.name}.${table}`, to, kind: "loads" as const })),
        ])
      : into.map((to) => ({ from: `f:${feed.name}`, to, kind: "loads" as const }));
    return [
      { from: `s:${feed.source}`, to: `f:${feed.name}`, kind: "reads" as const },
      ...loads,
      ...(after && placeOf.has(after) ? [{ from: `f:${after}`, to: `f:${feed.name}`, kind: "after" as const }] : []),
    ];
  });
  const rows = Math.max(
    1,
    ...Array.from({ length: last + 1 }, (_, column) => nodes.filter((node) => node.column === column).length),
  );
  return { nodes, edges, columns: last + 1, rows, withTables };
}
