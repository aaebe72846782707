import { describe, expect, it } from "vitest";
import type { DueWindow, Feed, LedgerLine, Source, TableProgress, Warehouse } from "../src/lib/api-types";
import { matters } from "../src/lib/attention";
import { calendar } from "../src/lib/calendar";
import { layOut } from "../src/lib/flow";
import { stepsOf } from "../src/lib/steps";
import { perSecond } from "../src/lib/throughput";
import { roundUp } from "../src/ui/Chart";

const feed = (name: string, source: string, after?: string, more: object = {}): Feed =>
  ({
    name,
    source,
    warehouse: "marsh",
    also: [],
    tables: [`${name}_a`],
    activity: "idle",
    last_run: null,
    fresh_at: null,
    late: false,
    rejects: 0,
    drift: 0,
    fresh_within_seconds: null,
    schedule: { rule: after ? { after } : null, windows: {}, paused: null, next_due: null },
    ...more,
  }) as unknown as Feed;

const sources = ["tides", "dock", "lake"].map((name) => ({ name }) as Source);
const warehouses = [{ name: "marsh" }, { name: "unused" }] as Warehouse[];

describe("the map", () => {
  it("puts feeds that wait for others behind them, and leaves out what no feed uses", () => {
    const flow = layOut(
      [feed("weeks", "tides", "days"), feed("days", "tides"), feed("months", "tides", "weeks"), feed("parts", "dock")],
      sources,
      warehouses,
    );
    const column = (id: string) => flow.nodes.find((node) => node.id === id)?.column;
    expect([
      column("s:tides"),
      column("f:days"),
      column("f:weeks"),
      column("f:months"),
      column("t:days.days_a"),
      column("w:marsh"),
    ]).toEqual([0, 1, 2, 3, 4, 5]);
    expect(flow.nodes.map((node) => node.id)).not.toContain("s:lake");
    expect(flow.edges.filter((edge) => edge.kind === "after")).toEqual([
      { from: "f:days", to: "f:weeks", kind: "after" },
      { from: "f:weeks", to: "f:months", kind: "after" },
    ]);
  });

  it("draws feeds alone where there are many tables, and ends where two wait for each other", () => {
    const many = Array.from({ length: 40 }, (_, n) => feed(`f${n}`, "dock"));
    const flow = layOut([...many, feed("a", "dock", "b"), feed("b", "dock", "a")], sources, warehouses);
    expect(flow.withTables).toBe(false);
    expect(flow.nodes.filter((node) => node.kind === "feed")).toHaveLength(42);
  });
});

describe("what needs attention", () => {
  it("is told once a feed, by its worst, the worst first", () => {
    const run = { id: 7, outcome: "failed", error: { found: "nothing answers", fix: "start it" } };
    const found = matters(
      [
        feed("a", "dock", undefined, { drift: 2 }),
        feed("b", "dock", undefined, { last_run: run, rejects: 3 }),
        feed("c", "dock"),
        feed("d", "dock", undefined, { rejects: 1 }),
      ],
      0,
    );
    expect(found.map((one) => [one.feed.name, one.word, one.to])).toEqual([
      ["b", "failed", "/runs/7"],
      ["d", "1 reject", "/rejects?feed=d"],
      ["a", "drift", "/feeds/a?tab=drift"],
    ]);
    expect(found[0]?.words).toBe("Nothing answers. Start it; 3 rejects");
  });

  it("is drawn to a figure that people read", () => {
    expect([0, 1, 3, 17, 20, 51, 240_000].map(roundUp)).toEqual([1, 1, 5, 20, 20, 100, 500_000]);
  });
});

describe("a calendar of windows", () => {
  it("says of each day its worst, the latest month first", () => {
    const at = (begins: string, state: string) => ({ begins, ends: begins, state, run: null, lane: "" }) as unknown as DueWindow;
    const months = calendar([
      at("2026-01-31T00:00:00Z", "done"),
      at("2026-02-01T00:00:00Z", "done"),
      at("2026-02-01T12:00:00Z", "failed"),
      at("2026-02-03T00:00:00Z", "waiting"),
    ]);
    expect(months.map((month) => month.name)).toEqual(["2026-02", "2026-01"]);
    expect(months[0]!.days.slice(0, 3).map((day) => day?.state)).toEqual(["failed", undefined, "waiting"]);
    expect(months[0]!.days[0]!.counts).toEqual({ done: 1, failed: 1 });
  });
});

describe("throughput", () => {
  it("is what came a second between the moments that were noted, and stands still where nothing came", () => {
    const samples = [1, 2, 3, 4].map((seconds, n) => ({ seconds, read: [100, 100, 100, 400][n]!, bytes: 10 * n }));
    expect(perSecond(samples, "read").map((part) => part.rate)).toEqual([100, 0, 0, 300]);
    expect(perSecond(samples, "bytes").map((part) => part.rate)).toEqual([0, 10, 10, 10]);
    expect(perSecond(samples.slice(0, 2), "read")).toEqual([]);
  });
});

describe("steps of a run", () => {
  it("tell what came out of each, and lose no record on the way", () => {
    const table = {
      table: "sailings",
      target: "hb_sailings",
      warehouse: "",
      read: 10,
      repeated: 2,
      held_back: 1,
      rejected: 1,
      filtered: 2,
      unchanged: 0,
      staged: 7,
    } as unknown as TableProgress;
    const line = {
      table: "hb_sailings",
      staged: 7,
      inserted: 4,
      updated: 2,
      deleted: 0,
      removed: 0,
      unchanged: 1,
      superseded: 0,
      reading_seconds: 0.5,
      shaping_seconds: 0,
      staging_seconds: 0,
      committing_seconds: 0,
    } as unknown as LedgerLine;
    const steps = stepsOf(table, [line]);
    expect(steps.map((step) => [step.name, step.out])).toEqual([
      ["Source", 13],
      ["New", 10],
      ["Shaped", 7],
      ["Staged", 7],
      ["Loaded", 6],
    ]);
    expect(steps[2]!.beside).toEqual([
      ["rejected", 1],
      ["left out by the filter", 2],
    ]);
    expect(steps[4]!.beside).toEqual([
      ["inserted", 4],
      ["updated", 2],
      ["unchanged", 1],
    ]);
  });
});
