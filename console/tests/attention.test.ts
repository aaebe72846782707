import { expect, test } from "vitest";
import type { Feed } from "../src/lib/api-types";
import { chosen, groups } from "../src/lib/attention";
import { nextOf, ruleInWords, soon, span } from "../src/lib/format";

const feed = (name: string, more: Partial<Feed> = {}): Feed =>
  ({
    name,
    description: "",
    source: "harbour",
    warehouse: "marsh",
    also: [],
    tables: ["sailings"],
    activity: "idle",
    last_run: null,
    late: false,
    rejects: 0,
    schedule: { rule: null, next_due: null, paused: null, windows: {} },
    ...more,
  }) as Feed;

test("feeds are found by all words, wherever they stand, within their group", () => {
  const all = [
    feed("a", { description: "of the Quay" }),
    feed("b", { rejects: 2 }),
    feed("quay", { rejects: 1, tables: ["counts"] }),
  ];
  expect(chosen(all, "", "QUAY").map((one) => one.name)).toEqual(["a", "quay"]);
  expect(chosen(all, "rejects", "quay counts").map((one) => one.name)).toEqual(["quay"]);
  expect(chosen(all, "no such group", "").length).toBe(3);
  expect(chosen(all, "rejects", "sailings nothing")).toEqual([]);
});

test("what needs looking after is told apart", () => {
  const windows = { rule: { windows: { length: "1d" } }, next_due: null, paused: null, windows: { failed: 1, waiting: 3 } };
  const late = feed("l", { late: true, activity: "running", schedule: windows });
  expect(groups.filter((one) => one.has(late)).map((one) => one.id)).toEqual(["late", "windows", "running"]);
  expect(nextOf(late, 0)).toBe("3 windows behind");
  const paused = feed("p", { schedule: { ...windows, paused: { paused_at: "", paused_by: "wren" } } });
  expect([nextOf(paused, 0), nextOf(feed("f"), 0)]).toEqual(["when resumed", ""]);
});

test("schedules and spans read as people say them", () => {
  expect(ruleInWords({ cron: "0 6 * * *", time_zone: "Europe/Paris" })).toBe("at 0 6 * * *, Europe/Paris");
  expect(ruleInWords({ after: "days", windows_per_run: 7 })).toBe("after days, 7 of its windows");
  expect([span(172_800), span(3600), span(90)]).toEqual(["2 days", "1 hour", "90 seconds"]);
  const now = Date.parse("2026-03-02T06:00:00Z");
  expect([soon("2026-03-02T06:20:00Z", now), soon("2026-03-02T05:59:00Z", now), soon(null, now)]).toEqual([
    "in 20 min",
    "now",
    "",
  ]);
});
