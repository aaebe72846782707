// Windows by the days on which they begin, in UTC as windows are. Plain functions, tested without a browser.
import type { DueWindow } from "./api-types";

export interface Day {
  date: string;
  /** The worst of its windows. */
  state: string;
  counts: Record<string, number>;
  windows: DueWindow[];
}

export interface Month {
  name: string;
  /** By day of the month, from the first; null where no window begins. */
  days: (Day | null)[];
}

const WORST = ["failed", "skipped", "waiting", "queued", "done"];

/** The latest month first. */
export function calendar(windows: DueWindow[]): Month[] {
  const days = new Map<string, DueWindow[]>();
  for (const window of windows) {
    const date = window.begins.slice(0, 10);
    days.set(date, [...(days.get(date) ?? []), window]);
  }
  const months = [...new Set([...days.keys()].map((date) => date.slice(0, 7)))].sort().reverse();
  return months.map((name) => ({
    name,
    days: Array.from({ length: 31 }, (_, place) => {
      const date = `${name}-${String(place + 1).padStart(2, "0")}`;
      const here = days.get(date);
      if (!here) return null;
      const counts: Record<string, number> = {};
      for (const window of here) counts[window.state] = (counts[window.state] ?? 0) + 1;
      return { date, windows: here, counts, state: WORST.find((state) => counts[state]) ?? "done" };
    }),
  }));
}
