// What of many feeds is looked at first. Plain functions, tested without a browser.
import type { Feed } from "./api-types";

export interface Group {
  id: string;
  title: string;
  has: (feed: Feed) => boolean;
}

export const groups: Group[] = [
  { id: "failing", title: "Failing", has: (feed) => feed.last_run?.outcome === "failed" || feed.last_run?.outcome === "interrupted" },
  { id: "late", title: "Late", has: (feed) => feed.late },
  { id: "windows", title: "With failed windows", has: (feed) => (feed.schedule.windows.failed ?? 0) > 0 },
  { id: "rejects", title: "With rejects", has: (feed) => feed.rejects > 0 },
  { id: "running", title: "Running", has: (feed) => feed.activity !== "idle" },
  { id: "paused", title: "Paused", has: (feed) => feed.schedule.paused !== null },
];

/** The feeds of a group (of all where it is no group), of which every word is found in name, source, warehouse, tables or about. */
export function chosen(feeds: Feed[], group: string, words: string): Feed[] {
  const has = groups.find((one) => one.id === group)?.has ?? (() => true);
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  return feeds.filter((feed) => {
    if (!has(feed)) return false;
    const said = [feed.name, feed.source, feed.warehouse, feed.about, ...feed.tables].join(" ").toLowerCase();
    return wanted.every((word) => said.includes(word));
  });
}
