import { describe, expect, it } from "vitest";
import type { LogLine, Run } from "../src/lib/api-types";
import { ago, between, cell, duration, laidOut, pace, size } from "../src/lib/format";
import { MOST_LINES, reduce, start } from "../src/lib/live";

const line = (number: number): LogLine => ({
  number,
  at: "",
  level: "info",
  code: "request",
  table: null,
  message: "",
  data: null,
});

describe("a live run", () => {
  it("keeps the last figures when the connection breaks, and takes no line twice", () => {
    let state = reduce(start, { type: "run", run: { id: 7, outcome: "running" } as Run });
    state = reduce(state, { type: "log", lines: [line(1), line(2)] });
    state = reduce(state, { type: "lost" });
    expect(state.connection).toBe("lost");
    expect(state.run?.id).toBe(7);
    state = reduce(state, { type: "log", lines: [line(2), line(3)] });
    expect(state.lines.map((l) => l.number)).toEqual([1, 2, 3]);
  });

  it("stays ended when the stream closes behind the end", () => {
    const ended = reduce(start, { type: "end" });
    expect(reduce(ended, { type: "lost" }).connection).toBe("ended");
  });

  it("says how many lines it let go", () => {
    const many = Array.from({ length: MOST_LINES + 5 }, (_, i) => line(i + 1));
    const state = reduce(start, { type: "log", lines: many });
    expect(state.lines).toHaveLength(MOST_LINES);
    expect(state.cut).toBe(5);
    expect(state.lines[0]?.number).toBe(6);
  });
});

describe("figures", () => {
  it("reads as people say it", () => {
    expect([size(12), size(1536), size(5 * 2 ** 30)]).toEqual(["12 B", "1.5 KiB", "5.0 GiB"]);
    expect([duration(0.042), duration(12.34), duration(75)]).toEqual(["42 ms", "12.3 s", "1 min 15 s"]);
    expect(ago("2026-03-02T06:00:00Z", Date.parse("2026-03-02T06:20:00Z"))).toBe("20 min ago");
    expect(ago(null, 0)).toBe("never");
    expect(between("2026-03-02T06:00:00Z", null, Date.parse("2026-03-02T06:00:02Z"))).toBe("2.00 s");
    expect([cell(null), cell(""), cell(false), cell(0)]).toEqual(["·", "", "false", "0"]);
  });
});

describe("what a source is asked and answers", () => {
  it("lays JSON out to be read, and leaves the rest alone", () => {
    expect(laidOut('{"range":{"from":"a"},"all":[1,2]}', 40)).toBe('{\n  "range": { "from": "a" },\n  "all": [ 1, 2 ]\n}');
    expect(laidOut('{"all":[1,2]}', 5)).toContain("\n    1,\n");
    expect(laidOut("<html>", 40)).toBe("<html>");
  });

  it("says the pace in words", () => {
    expect(pace({ per_second: 5, per_hour: 1000, per_day: null, concurrency: 2 })).toBe("5 a second, 1,000 an hour, 2 at once");
    expect(pace({ per_second: null, concurrency: 4 })).toBe("4 at once");
  });
});
