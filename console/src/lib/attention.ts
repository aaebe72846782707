// What of many feeds is looked at first. Plain functions, tested without a browser.
import type { Feed } from "./api-types";
import { ago, plural, span } from "./format";

export interface Group {
  id: string;
  title: string;
  has: (feed: Feed) => boolean;
}

export const groups: Group[] = [
  {
    id: "failing",
    title: "Failing",
    has: (feed) => feed.last_run?.outcome === "failed" || feed.last_run?.outcome === "interrupted",
  },
  { id: "late", title: "Late", has: (feed) => feed.late },
  { id: "windows", title: "With failed windows", has: (feed) => (feed.schedule.windows.failed ?? 0) > 0 },
  { id: "rejects", title: "With rejects", has: (feed) => feed.rejects > 0 },
  { id: "running", title: "Running", has: (feed) => feed.activity !== "idle" },
  { id: "paused", title: "Paused", has: (feed) => feed.schedule.paused !== null },
];

/** What was found and how to fix it, one sentence after the other. */
const sentences = (...parts: string[]): string =>
  parts
    .filter(Boolean)
    .map((part) => `${part[0]?.toUpperCase()}${part.slice(1)}`)
    .join(". ");

/** The feeds of a group (of all where it is no group), of which every word is found in name, source, warehouse, tables or description. */
export function chosen(feeds: Feed[], group: string, words: string): Feed[] {
  const has = groups.find((one) => one.id === group)?.has ?? (() => true);
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  return feeds.filter((feed) => {
    if (!has(feed)) return false;
    const said = [feed.name, feed.source, feed.warehouse, ...feed.also, feed.description, ...feed.tables].join(" ").toLowerCase();
    return wanted.every((word) => said.includes(word));
  });
}

/** What somebody has to look at. to: where. */
export interface Matter {
  feed: Feed;
  word: string;
  tone: "bad" | "warn";
  words: string;
  to: string;
}

const failed = new Set(["failed", "interrupted"]);

/** What is wrong with feeds, the worst first; of a feed its worst alone, with what else there is in words. */
export function matters(feeds: Feed[], now: number): Matter[] {
  const found: (Matter & { weight: number })[] = [];
  for (const feed of feeds) {
    const here: (Omit<Matter, "feed"> & { weight: number })[] = [];
    const run = feed.last_run;
    const broken = feed.schedule.windows.failed ?? 0;
    const page = `/feeds/${encodeURIComponent(feed.name)}`;
    if (run && failed.has(run.outcome))
      here.push({
        weight: 5,
        word: run.outcome,
        tone: "bad",
        words: run.error ? sentences(run.error.found, run.error.fix) : "it was cut, and goes on by itself",
        to: `/runs/${run.id}`,
      });
    if (broken)
      here.push({
        weight: 4,
        word: plural(broken, "failed window"),
        tone: "bad",
        words: `${plural(broken, "window")} failed`,
        to: `${page}?tab=schedule`,
      });
    if (feed.late)
      here.push({
        weight: 3,
        word: "late",
        tone: "bad",
        words: `fresh ${ago(feed.fresh_at, now)}, which should be within ${span(feed.fresh_within_seconds ?? 0)}`,
        to: page,
      });
    if (feed.rejects)
      here.push({
        weight: 2,
        word: plural(feed.rejects, "reject"),
        tone: "warn",
        words: `${plural(feed.rejects, "record")} could not be shaped, kept as they came`,
        to: `/rejects?feed=${encodeURIComponent(feed.name)}`,
      });
    if (feed.drift)
      here.push({
        weight: 1,
        word: "drift",
        tone: "warn",
        words: `its source changed in ${plural(feed.drift, "place")} by the last run`,
        to: `${page}?tab=drift`,
      });
    const [worst, ...others] = here;
    if (worst) found.push({ ...worst, feed, words: [worst.words, ...others.map((one) => one.word)].join("; ") });
  }
  return found.sort((a, b) => b.weight - a.weight || a.feed.name.localeCompare(b.feed.name));
}
