// How fast a run went, from moment to moment. Plain functions, tested without a browser.
import type { PaceSample } from "./api-types";

const PARTS = 60;

export interface Part {
  /** Seconds since the run began. */
  from: number;
  until: number;
  /** A second. */
  rate: number;
}

/** What came in a second between the moments that were noted, in at most so many parts of equal length. */
export function perSecond(samples: PaceSample[], what: "read" | "bytes"): Part[] {
  const last = samples.at(-1);
  if (!last || samples.length < 3) return [];
  const all = [{ seconds: 0, read: 0, bytes: 0 }, ...samples];
  const parts = Math.min(PARTS, all.length - 1);
  const long = last.seconds / parts;
  const takenAt = (time: number): number => {
    const next = Math.max(
      1,
      all.findIndex((one) => one.seconds >= time - 1e-9),
    );
    const [a, b] = [all[next - 1]!, all[next]!];
    return a[what] + ((b[what] - a[what]) * (time - a.seconds)) / Math.max(1e-3, b.seconds - a.seconds);
  };
  return Array.from({ length: parts }, (_, place) => {
    const [from, until] = [place * long, (place + 1) * long];
    return { from, until, rate: Math.max(0, (takenAt(until) - takenAt(from)) / long) };
  });
}
