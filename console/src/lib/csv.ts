// Rows as RFC 4180 has them. Null is an empty field, empty text "".
import type { Rows } from "./api-types";

function field(value: unknown): string {
  if (value === null || value === undefined) return "";
  const text = typeof value === "object" ? JSON.stringify(value) : String(value);
  return text === "" || /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

export const csv = (rows: Pick<Rows, "columns" | "rows">): string =>
  [rows.columns.map((column) => column.name), ...rows.rows].map((row) => `${row.map(field).join(",")}\r\n`).join("");

/** Hands a text over as a file, made in the page: nothing is asked for once more. */
export function save(name: string, text: string): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/csv;charset=utf-8" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
