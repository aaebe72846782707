import type { Column } from "../../lib/api-types";
import { Grid } from "../../ui/Grid";

const TYPES = ["text", "int64", "double", "decimal", "bool", "date", "timestamp", "json", "uuid"] as const;

export type Casts = Record<string, string>;

/** The type that each column's values speak for, and another where somebody knows better; the feed made of it casts to that. */
export function TypesView({ columns, casts, cast }: { columns: Column[]; casts: Casts; cast: (casts: Casts) => void }) {
  const put = (name: string, type: string) => {
    const { [name]: _, ...others } = casts;
    cast(type ? { ...others, [name]: type } : others);
  };
  return (
    <Grid<Column>
      label="Types of the columns"
      rows={columns}
      id={(column) => column.name}
      empty=""
      height="30vh"
      columns={[
        { name: "Column", show: (column) => <b>{column.name}</b>, width: "40%" },
        { name: "Found type", show: (column) => column.type, width: "25%" },
        {
          name: "Load as",
          show: (column) => (
            <select
              aria-label={`Load ${column.name} as`}
              value={casts[column.name] ?? ""}
              onChange={(event) => put(column.name, event.target.value)}
            >
              <option value="">the found type</option>
              {TYPES.filter((type) => type !== column.type).map((type) => (
                <option key={type}>{type}</option>
              ))}
            </select>
          ),
          width: "35%",
        },
      ]}
    />
  );
}
