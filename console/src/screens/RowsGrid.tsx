import type { Rows } from "../lib/api-types";
import { cell } from "../lib/format";
import { Grid } from "../ui/Grid";

/** Rows of a table or an answer, with each column's declared type under its name. */
export function RowsGrid({ label, rows, height }: { label: string; rows: Rows; height?: string }) {
  const typed = rows.columns.some((column) => column.type);
  return (
    <Grid<unknown[]>
      label={label}
      rows={rows.rows}
      id={(_, index) => index}
      empty="No rows."
      height={height}
      columns={rows.columns.map((column, index) => ({
        name: column.name,
        under: typed ? column.type.toLowerCase() : undefined,
        end: rows.rows.length > 0 && rows.rows.every((row) => row[index] === null || typeof row[index] === "number"),
        show: (row) => <span title={cell(row[index])}>{cell(row[index])}</span>,
      }))}
    />
  );
}
