import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import type { Table } from "../lib/api-types";
import { ago, count } from "../lib/format";
import { checkWarehouse, tablesQuery } from "../lib/queries";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Page } from "../ui/Page";
import { Tabs } from "../ui/Tabs";
import { CheckView } from "./CheckView";
import { Loaded } from "./Loaded";
import { SqlBox } from "./SqlBox";

export function Warehouse() {
  const { warehouse = "" } = useParams();
  const tables = useQuery(tablesQuery(warehouse));
  return (
    <Page title={warehouse} about="Tables and their row counts. Read only.">
      <Loaded query={tables} what="tables">
        {(found) => (
          <Tabs
            label="About the warehouse"
            items={[
              { id: "tables", title: "Tables", body: <Tables warehouse={warehouse} found={found} /> },
              {
                id: "sql",
                title: "SQL",
                body: <SqlBox warehouse={warehouse} first={found[0] ? `select * from ${found[0].name} limit 20` : "select 1"} />,
              },
              { id: "check", title: "Check", body: <CheckView ask={() => checkWarehouse(warehouse)} /> },
            ]}
          />
        )}
      </Loaded>
    </Page>
  );
}

function Tables({ warehouse, found }: { warehouse: string; found: Table[] }) {
  const now = useNow();
  return (
    <Grid<Table>
      label="Tables"
      rows={found}
      id={(table) => table.name}
      href={(table) => `/warehouses/${warehouse}/${table.name}`}
      empty="No tables yet. The first run of a feed makes them."
      columns={[
        { name: "Table", show: (table) => <b>{table.name}</b>, width: "30%" },
        { name: "Rows", show: (table) => count(table.rows), end: true, width: "14%" },
        { name: "Columns", show: (table) => table.columns.length, end: true, width: "10%" },
        { name: "Feed", show: (table) => table.feed ?? "not loaded by a feed", width: "18%" },
        { name: "Last load", show: (table) => table.last_load ?? "", end: true, width: "10%" },
        { name: "Loaded", show: (table) => (table.loaded_at ? ago(table.loaded_at, now) : ""), width: "18%" },
      ]}
    />
  );
}
