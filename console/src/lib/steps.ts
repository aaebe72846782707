// What went into each step of a table's run, and what came out. Plain functions, tested without a browser.
import type { LedgerLine, TableProgress } from "./api-types";

export interface Step {
  name: string;
  /** What came out of it, for the next one. */
  out: number;
  unit: "record" | "row";
  seconds: number;
  /** What else became of what went in, and facts of the step: only those that are not nothing. */
  beside: [string, number][];
}

const sum = (lines: LedgerLine[], value: (line: LedgerLine) => number): number =>
  lines.reduce((all, line) => all + value(line), 0);
const some = (beside: [string, number][]) => beside.filter(([, value]) => value > 0);

/** lines: the loads of this table's run, child tables included. */
export function stepsOf(table: TableProgress, lines: LedgerLine[]): Step[] {
  const own = lines.filter((line) => line.table === table.target);
  const taken = table.read + table.repeated + table.held_back;
  const staged = sum(lines, (line) => line.staged);
  return [
    { name: "Source", out: taken, unit: "record", seconds: sum(own, (line) => line.reading_seconds), beside: [] },
    {
      name: "New",
      out: table.read,
      unit: "record",
      seconds: 0,
      beside: some([
        ["already loaded", table.repeated],
        ["held back", table.held_back],
      ]),
    },
    {
      name: "Shaped",
      out: staged || table.staged,
      unit: "row",
      seconds: sum(own, (line) => line.shaping_seconds),
      beside: some([
        ["rejected", table.rejected],
        ["left out by the filter", table.filtered],
        ["compared and unchanged", table.unchanged],
      ]),
    },
    { name: "Staged", out: staged || table.staged, unit: "row", seconds: sum(own, (line) => line.staging_seconds), beside: [] },
    {
      name: "Loaded",
      out: sum(lines, (line) => line.inserted + line.updated + line.deleted + line.removed),
      unit: "row",
      seconds: sum(own, (line) => line.committing_seconds),
      beside: some([
        ["inserted", sum(lines, (line) => line.inserted)],
        ["updated", sum(lines, (line) => line.updated)],
        ["deleted", sum(lines, (line) => line.deleted)],
        ["removed", sum(lines, (line) => line.removed)],
        ["unchanged", sum(lines, (line) => line.unchanged)],
        ["superseded", sum(lines, (line) => line.superseded)],
      ]),
    },
  ];
}
