import type { LedgerLine } from "../lib/api-types";
import { count, moment } from "../lib/format";
import type { GridColumn } from "../ui/Grid";

const figure = (name: string, read: (line: LedgerLine) => number): GridColumn<LedgerLine> => ({
  name,
  end: true,
  show: (line) => count(read(line)),
});

/** Counts that are seldom anything but 0: named only where they are. */
const others = (line: LedgerLine): string =>
  (["superseded", "deleted", "removed", "repeated", "filtered"] as const)
    .filter((name) => line[name] > 0)
    .map((name) => `${count(line[name])} ${name}`)
    .join(", ");

/** A line per load; read = inserted + updated + deleted + unchanged + superseded + rejected. */
const all: GridColumn<LedgerLine>[] = [
  { name: "Load", show: (line) => line.load, end: true },
  { name: "Table", show: (line) => <b title={`by ${line.write}`}>{line.table}</b> },
  figure("Read", (line) => line.read),
  figure("Inserted", (line) => line.inserted),
  figure("Updated", (line) => line.updated),
  figure("Unchanged", (line) => line.unchanged),
  figure("Rejected", (line) => line.rejected),
  { name: "Other", show: others },
  { name: "Reconciles", show: (line) => (line.reconciles ? "yes" : <b>NO</b>) },
  { name: "Cursor to", show: (line) => line.cursor_to?.slice(0, 19).replace("T", " ") ?? "", mono: true },
  { name: "Ended", show: (line) => moment(line.ended).slice(5) },
];

/** The columns for these lines: "Other" only where there is any. */
export const ledgerColumns = (lines: LedgerLine[]): GridColumn<LedgerLine>[] =>
  all.filter((column) => column.name !== "Other" || lines.some((line) => others(line) !== ""));
