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

/** In the reader's own zone, to the second. */
export function moment(time: string | null): string {
  if (time === null) return "";
  const at = new Date(time);
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
  const units = [["per_second", "a second"], ["per_hour", "an hour"], ["per_day", "a day"]] as const;
  const words = units.flatMap(([key, unit]) => (typeof said[key] === "number" ? [`${count(said[key])} ${unit}`] : []));
  return [...words, `${String(said.at_once)} at once`].join(", ");
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
