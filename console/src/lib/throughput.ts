// How fast a run went, from moment to moment. Plain functions, tested without a browser.
import type { RequestLine, Run } from "./api-types";

export interface Sample {
  at: number;
  taken: number;
}

const MOST_SAMPLES = 600;
const PARTS = 60;

export const takenBy = (run: Run): number => (run.tables ?? []).reduce((all, table) => all + table.read + table.repeated, 0);

/** One more figure of a run that is watched; what does not move keeps its place in time. */
export function sampled(samples: Sample[], run: Run, now: number): Sample[] {
  if (run.outcome === "queued") return samples;
  const next = [...samples, { at: now, taken: takenBy(run) }];
  return next.length > MOST_SAMPLES ? next.filter((_, place) => place % 2 === 0) : next;
}

export interface Part {
  from: number;
  until: number;
  /** A second. */
  rate: number;
}

/** Rows a second between what was seen, in at most so many parts of equal length. */
export function rowsPerSecond(samples: Sample[]): Part[] {
  const [first, last] = [samples[0], samples.at(-1)];
  if (!first || !last || last.at - first.at < 1500) return [];
  const parts = Math.min(PARTS, samples.length - 1, Math.max(1, Math.round((last.at - first.at) / 500)));
  const long = (last.at - first.at) / parts;
  const takenAt = (time: number): number => {
    const next = samples.findIndex((one) => one.at >= time);
    if (next <= 0) return samples[Math.max(0, next)]!.taken;
    const [a, b] = [samples[next - 1]!, samples[next]!];
    return a.taken + ((b.taken - a.taken) * (time - a.at)) / Math.max(1, b.at - a.at);
  };
  return Array.from({ length: parts }, (_, place) => {
    const [from, until] = [first.at + place * long, first.at + (place + 1) * long];
    return { from, until, rate: Math.max(0, ((takenAt(until) - takenAt(from)) * 1000) / long) };
  });
}

/** Bytes a second over the requests of a run, in parts of equal length; none where it took no time worth drawing. */
export function bytesPerSecond(requests: RequestLine[]): Part[] {
  const ended = requests.map((line) => ({ at: Date.parse(line.at), bytes: line.bytes }));
  const begin = Math.min(...ended.map((one) => one.at));
  const end = Math.max(...ended.map((one) => one.at));
  if (ended.length < 3 || end - begin < 200) return [];
  const parts = Math.min(PARTS, ended.length);
  const long = (end - begin) / parts;
  const sums = Array.from({ length: parts }, () => 0);
  for (const one of ended) sums[Math.min(parts - 1, Math.floor((one.at - begin) / long))]! += one.bytes;
  return sums.map((sum, place) => ({ from: begin + place * long, until: begin + (place + 1) * long, rate: (sum * 1000) / long }));
}
