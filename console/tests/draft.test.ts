import { describe, expect, it } from "vitest";
import { asName, kindOf, of, put, read, sourceOnly, tidy, write, writtenAs } from "../src/lib/draft";

const TEXT = `feed: yard
from: dock
into: marsh
tables:
  parts:
  work_orders:
    changes: {by: cursor, column: updated_at}
---
source: dock
connector: dock-api
`;

describe("a draft", () => {
  it("is the same definitions as text and as forms, a table with nothing of its own included", () => {
    const { docs, problem } = read(TEXT);
    expect(problem).toBe("");
    expect(docs.map(kindOf)).toEqual(["feed", "source"]);
    expect(read(write(docs)).docs).toEqual(docs);
    expect(of(docs, "feed")?.tables).toEqual({ parts: null, work_orders: { changes: { by: "cursor", column: "updated_at" } } });
  });

  it("keeps what a definition is while its name is not said yet, and leaves out what says nothing", () => {
    const { docs } = read("feed: \n");
    const next = put(docs, "source", { source: "", connector: "", path: "", settings: { url: "" } });
    expect(next.map(kindOf)).toEqual(["source", "feed"]);
    expect(next[0]).toEqual({ source: "", connector: "" });
    expect(tidy({ a: [], b: { c: "" }, d: 0, e: false, f: null })).toEqual({ b: null, d: 0, e: false, f: null });
  });

  it("says where it does not read, and then holds no definitions", () => {
    expect(read("feed: [").problem).not.toBe("");
    expect(read("- a\n- b\n").problem).toContain("a definition is");
    expect(read("").docs).toEqual([]);
  });

  it("begins with how a feed was written, comments included", () => {
    const file = `# all of the yard\nsource: dock\non: sqlite\n---\n# the yard's parts\nfeed: yard\nfrom: dock # every night\n`;
    expect(writtenAs(["feed: other\n", file], "yard")).toBe("# the yard's parts\nfeed: yard\nfrom: dock # every night\n");
    expect(writtenAs([file], "nobody")).toBe("");
  });

  it("is looked with without its feed, which is not whole yet", () => {
    expect(read(sourceOnly(read(TEXT).docs)).docs.map(kindOf)).toEqual(["source"]);
    expect([asName("Order Lines"), asName("{landing}/counts-"), asName("2024")]).toEqual(["order_lines", "landing_counts", "t_2024"]);
  });
});
