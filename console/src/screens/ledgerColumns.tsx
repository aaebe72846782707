import type { LedgerLine } from "../lib/api-types";
import { count, moment } from "../lib/format";
import type { GridColumn } from "../ui/Grid";

const figure = (name: string, read: (line: LedgerLine) => number): GridColumn<LedgerLine> => ({
  name,
  end: true,
  show: (line) => count(read(line)),
});

const SELDOM = ["superseded", "deleted", "removed", "repeated", "filtered"] as const;

/** Counts that are seldom anything but 0: named only where they are. */
const others = (line: LedgerLine, names: readonly ("unchanged" | (typeof SELDOM)[number])[]): string =>
  names
    .filter((name) => line[name] > 0)
    .map((name) => `${count(line[name])} ${name}`)
    .join(", ");

/** Times to the minute, so that all columns stand side by side at 1280 pixels; the whole is in the title. */
const short = (cursor: string): string =>
  /^\d{4}-\d\d-\d\dT\d\d:\d\d/.test(cursor) ? cursor.slice(0, 16).replace("T", " ") : cursor.slice(0, 19);

/** A line per load; read = inserted + updated + deleted + unchanged + superseded + rejected. "Other" stands only where there is any;
 * where lines are of several warehouses, their names take the room of "Unchanged". */
export const ledgerColumns = (lines: LedgerLine[]): GridColumn<LedgerLine>[] => {
  const several = new Set(lines.map((line) => line.warehouse)).size > 1;
  const named = several ? (["unchanged", ...SELDOM] as const) : SELDOM;
  const columns: (GridColumn<LedgerLine> | false)[] = [
    { name: "Load", show: (line) => line.load, end: true },
    several && { name: "Warehouse", show: (line) => line.warehouse },
    { name: "Table", show: (line) => <b title={`by ${line.write}`}>{line.table}</b> },
    figure("Read", (line) => line.read),
    figure("Inserted", (line) => line.inserted),
    figure("Updated", (line) => line.updated),
    !several && figure("Unchanged", (line) => line.unchanged),
    figure("Rejected", (line) => line.rejected),
    lines.some((line) => others(line, named) !== "") && { name: "Other", show: (line) => others(line, named) },
    { name: "Reconciles", show: (line) => (line.reconciles ? "yes" : <b>NO</b>) },
    { name: "Cursor until", show: (line) => <span title={line.cursor_to ?? ""}>{short(line.cursor_to ?? "")}</span>, mono: true },
    { name: "Ended", show: (line) => <span title={moment(line.ended)}>{moment(line.ended).slice(5, 16)}</span> },
  ];
  return columns.filter((column) => column !== false);
};
