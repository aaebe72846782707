import { describe, expect, it } from "vitest";
import { asName, kindOf, namesOf, of, put, read, rewrite, sourceOnly, tidy, write, writtenAs } from "../src/lib/draft";

const TEXT = `feed: yard
from: dock
into: marsh
tables:
  - parts
  - table: work_orders
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
    const file = `# all of the yard\nsource: dock\ntype: sqlite\n---\n# the yard's parts\nfeed: yard\nfrom: dock # every night\n`;
    expect(writtenAs(["feed: other\n", file], "yard")).toBe("# the yard's parts\nfeed: yard\nfrom: dock # every night\n");
    expect(writtenAs([file], "nobody")).toBe("");
  });

  it("is changed by forms where it is to be changed, and stays as it was written elsewhere", () => {
    const text = `# the yard's parts\nfeed: yard # ours\nfrom: dock\ntables:\n  # all of it\n  - parts\n  - gone\n  - table: yard.cranes # two of them\n    as: cranes\nschedule: {every: 5m} # often\n---\nsource: dock\ntype: "sqlite"\n`;
    const { docs } = read(text);
    const feed = of(docs, "feed")!;
    const next = rewrite(
      text,
      put(docs, "feed", {
        ...feed,
        schedule: { every: "1h" },
        tables: { parts: null, cranes: { table: "yard.cranes", write: "append" }, more: { write: "append" } },
      }),
    );
    for (const kept of [
      "# the yard's parts",
      "feed: yard # ours",
      "# all of it",
      "# two of them",
      "{ every: 1h } # often",
      'type: "sqlite"',
    ])
      expect(next).toContain(kept);
    expect(next).not.toContain("gone");
    expect(of(read(next).docs, "feed")?.tables).toEqual({
      parts: null,
      cranes: { table: "yard.cranes", write: "append" },
      more: { write: "append" },
    });
    expect(rewrite("", docs)).toBe(write(docs));
  });

  it("of several feeds is found by the name of each", () => {
    const text = "feed: log-{variant.region}\nfrom: a\nvariants: [{region: north}, {region: south}]\n";
    expect(namesOf(read(text).docs[0]!)).toEqual(["log-north", "log-south"]);
    expect(writtenAs([text], "log-south")).toBe(text);
  });

  it("is looked with without its feed, which is not whole yet", () => {
    expect(read(sourceOnly(read(TEXT).docs)).docs.map(kindOf)).toEqual(["source"]);
    expect([asName("Order Lines"), asName("{landing}/counts-"), asName("2024")]).toEqual([
      "order_lines",
      "landing_counts",
      "t_2024",
    ]);
  });
});
