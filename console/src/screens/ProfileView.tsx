import { useQuery } from "@tanstack/react-query";
import type { ColumnProfile } from "../lib/api-types";
import { count, plural } from "../lib/format";
import { profileQuery } from "../lib/queries";
import { Grid } from "../ui/Grid";
import { Section } from "../ui/Page";
import { Loaded } from "./Loaded";

/** Statistics of each column of a table, counted now. */
export function ProfileView({ warehouse, table }: { warehouse: string; table: string }) {
  const profile = useQuery(profileQuery(warehouse, table));
  return (
    <Loaded query={profile} what="the profile; every row is counted">
      {(found) => (
        <Section>
          <p>{plural(found.rows, "row")}.</p>
          <Grid<ColumnProfile>
            label="Columns"
            rows={found.columns}
            id={(column) => column.name}
            empty=""
            height="62vh"
            columns={[
              { name: "Column", show: (column) => <b>{column.name}</b>, width: "18%" },
              { name: "Type", show: (column) => column.type, width: "15%" },
              { name: "Nulls", show: (column) => count(column.nulls), end: true, width: "9%" },
              { name: "Distinct", show: (column) => count(column.distinct), end: true, width: "9%" },
              { name: "Min", show: (column) => column.min ?? "·", mono: true },
              { name: "Max", show: (column) => column.max ?? "·", mono: true },
              {
                name: "Examples",
                show: (column) => <span title={column.examples.join(" · ")}>{column.examples.join(" · ")}</span>,
              },
            ]}
          />
        </Section>
      )}
    </Loaded>
  );
}
