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

/** Times to the minute, so that all columns stand side by side at 1280 pixels; the whole is in the title. */
const short = (cursor: string): string => (/^\d{4}-\d\d-\d\dT\d\d:\d\d/.test(cursor) ? cursor.slice(0, 16).replace("T", " ") : cursor.slice(0, 19));

/** A line per load; read = inserted + updated + deleted + unchanged + superseded + rejected. */
const all: GridColumn<LedgerLine>[] = [
  { name: "Load", show: (line) => line.load, end: true },
  { name: "Warehouse", show: (line) => line.warehouse },
  { name: "Table", show: (line) => <b title={`by ${line.write}`}>{line.table}</b> },
  figure("Read", (line) => line.read),
  figure("Inserted", (line) => line.inserted),
  figure("Updated", (line) => line.updated),
  figure("Unchanged", (line) => line.unchanged),
  figure("Rejected", (line) => line.rejected),
  { name: "Other", show: others },
  { name: "Reconciles", show: (line) => (line.reconciles ? "yes" : <b>NO</b>) },
  { name: "Cursor to", show: (line) => <span title={line.cursor_to ?? ""}>{short(line.cursor_to ?? "")}</span>, mono: true },
  { name: "Ended", show: (line) => <span title={moment(line.ended)}>{moment(line.ended).slice(5, 16)}</span> },
];

/** The columns for these lines: "Other" only where there is any, "Warehouse" where there are several. */
export const ledgerColumns = (lines: LedgerLine[]): GridColumn<LedgerLine>[] => {
  const left = new Set<string>();
  if (!lines.some((line) => others(line) !== "")) left.add("Other");
  if (new Set(lines.map((line) => line.warehouse)).size < 2) left.add("Warehouse");
  return all.filter((column) => !left.has(column.name));
};
