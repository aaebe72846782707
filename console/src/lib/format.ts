import type { Feed } from "./api-types";
import { shownZone } from "./zone";

// How numbers, sizes and times read. Plain functions, tested without a browser.

export const count = (value: number): string => value.toLocaleString("en-US");

/** 1536 -> "1.5 KiB" */
export function size(bytes: number): string {
  let value = bytes;
  for (const unit of ["B", "KiB", "MiB"]) {
    if (value < 1024) return `${unit === "B" ? value : value.toFixed(1)} ${unit}`;
    value /= 1024;
  }
  return `${value.toFixed(1)} GiB`;
}

/** Seconds as people say them: 0.042 -> "42 ms", 1.5 -> "1.50 s", 75 -> "1 min 15 s" */
export function duration(seconds: number): string {
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`;
  if (seconds < 60) return `${seconds < 10 ? seconds.toFixed(2) : seconds.toFixed(1)} s`;
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes} min ${Math.round(seconds % 60)} s`;
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

export function ago(time: string | null, now: number): string {
  if (time === null) return "never";
  const seconds = Math.max(0, (now - Date.parse(time)) / 1000);
  if (seconds < 90) return `${Math.round(seconds)} s ago`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 129_600) return `${Math.round(seconds / 3600)} h ago`;
  return `${Math.round(seconds / 86_400)} days ago`;
}

/** Seconds that people chose: 172800 -> "2 days" */
export function span(seconds: number): string {
  for (const [size, word] of [
    [86_400, "day"],
    [3600, "hour"],
    [60, "minute"],
  ] as const) {
    if (seconds >= size && seconds % size === 0) return plural(seconds / size, word);
  }
  return plural(seconds, "second");
}

/** "in 5 min" */
export function soon(time: string | null, now: number): string {
  if (time === null) return "";
  const seconds = (Date.parse(time) - now) / 1000;
  if (seconds <= 0) return "now";
  if (seconds < 90) return `in ${Math.round(seconds)} s`;
  if (seconds < 5400) return `in ${Math.round(seconds / 60)} min`;
  if (seconds < 129_600) return `in ${Math.round(seconds / 3600)} h`;
  return `in ${Math.round(seconds / 86_400)} days`;
}

/** A schedule as a definition says it, in words: {every: "5m"} -> "every 5m" */
export function ruleInWords(rule: Record<string, unknown>): string {
  const words: string[] = [];
  if (rule.every) words.push(`every ${String(rule.every)}`);
  if (rule.cron) words.push(`at ${String(rule.cron)}${rule.time_zone ? `, ${String(rule.time_zone)}` : ""}`);
  if (rule.after)
    words.push(`after ${String(rule.after)}${rule.windows_per_run ? `, ${String(rule.windows_per_run)} of its windows` : ""}`);
  const windows = rule.windows as { length?: string; delay?: string } | undefined;
  if (windows) words.push(`for each ${windows.length ?? ""}${windows.delay ? `, ${windows.delay} behind its end` : ""}`);
  return words.join(", ");
}

/** Idle, queued, running; paused where it is idle, and will stay so. */
export const stateOf = (feed: Feed): string => (feed.schedule.paused && feed.activity === "idle" ? "paused" : feed.activity);

/** When a feed runs by itself next. */
export function nextOf(feed: Feed, now: number): string {
  const { rule, next_due, paused, windows } = feed.schedule;
  if (rule === null) return "";
  if (paused) return "when resumed";
  if (windows.waiting) return `${plural(windows.waiting, "window")} behind`;
  return next_due ? soon(next_due, now) : `after ${String(rule.after)}`;
}

/** To the second, in the zone that is shown. */
export function moment(time: string | null): string {
  if (time === null) return "";
  const at = new Date(time);
  if (shownZone() === "UTC") return at.toISOString().slice(0, 19).replace("T", " ");
  const two = (n: number) => String(n).padStart(2, "0");
  return (
    `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} ` +
    `${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`
  );
}

export function between(start: string | null, end: string | null, now: number): string {
  if (start === null) return "";
  return duration(Math.max(0, (end === null ? now : Date.parse(end)) - Date.parse(start)) / 1000);
}

/** "1 table", "4 tables" */
export const plural = (n: number, word: string): string => `${count(n)} ${word}${n === 1 ? "" : "s"}`;

/** "5 a second, 2 at once" */
export function pace(said: Record<string, unknown>): string {
  const units = [
    ["per_second", "a second"],
    ["per_hour", "an hour"],
    ["per_day", "a day"],
  ] as const;
  const words = units.flatMap(([key, unit]) => (typeof said[key] === "number" ? [`${count(said[key])} ${unit}`] : []));
  return [...words, `${String(said.concurrency)} at once`].join(", ");
}

/** JSON laid out to be read in so many characters a line; anything else as it is. */
export function laidOut(text: string, width: number): string {
  try {
    const wide = JSON.stringify(JSON.parse(text), null, 2);
    // The innermost lists and objects read better on one line where they are short.
    return wide.replace(/[[{]\n[^[\]{}]*[\]}]/g, (found) => {
      const joined = found.replace(/\s*\n\s*/g, " ");
      return joined.length <= width ? joined : found;
    });
  } catch {
    return text;
  }
}

/** A warehouse value in one cell. Null differs from empty text. */
export function cell(value: unknown): string {
  if (value === null || value === undefined) return "·";
  if (typeof value === "boolean") return value ? "true" : "false";
  return String(value);
}

/** The warehouses of a feed: one, or several. */
export const intoOf = (feed: Feed): string => [feed.warehouse, ...feed.also].join(", ");

/** How far a log was ahead: "1.2 MB, 3.4 s, 12 transactions"; what is nothing is not said. */
export function lagWords(lag: { size: number; seconds: number | null; transactions: number }): string {
  if (lag.transactions === 0) return "no lag";
  return [size(lag.size), lag.seconds !== null && duration(lag.seconds), plural(lag.transactions, "transaction")]
    .filter(Boolean)
    .join(", ");
}
