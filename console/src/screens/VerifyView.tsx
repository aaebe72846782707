import { useMutation } from "@tanstack/react-query";
import { Link } from "react-router";
import type { VerifiedTable } from "../lib/api-types";
import { count } from "../lib/format";
import { verifyFeed } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Grid } from "../ui/Grid";
import { Section } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf } from "./Loaded";

/** One differing value, the source's beside the warehouse's. */
interface Difference {
  id: string;
  table: string;
  key: string;
  what: string;
  column: string;
  source: string;
  warehouse: string;
}

const shown = (value: unknown): string => (value === null || value === undefined ? "·" : String(value));

const differences = (tables: VerifiedTable[]): Difference[] =>
  tables.flatMap((table) =>
    table.samples.flatMap((sample) => {
      const key = sample.key.join(", ");
      const row = { table: table.table, key, what: sample.what, column: "", source: "", warehouse: "" };
      const values = Object.entries(sample.values);
      if (values.length === 0) return [{ ...row, id: `${table.table} ${key} ${sample.what}` }];
      return values.map(([column, pair]) => ({
        ...row,
        id: `${table.table} ${key} ${column}`,
        column,
        source: shown(pair[0]),
        warehouse: shown(pair[1]),
      }));
    }),
  );

const figure = (value: number | null): string => (value === null ? "—" : count(value));

/** Reads the source once more from its beginning, and lays it beside the warehouse. table: that one alone. */
export function VerifyView({ feed, table = null }: { feed: string; table?: string | null }) {
  const verify = useMutation({ mutationFn: (deep: boolean) => verifyFeed(feed, table, deep) });
  return (
    <Section>
      {table !== null && (
        <p style={{ margin: 0 }}>
          It comes from <code>{table}</code> by the feed <Link to={`/feeds/${feed}`}>{feed}</Link>.
        </p>
      )}
      <p style={{ margin: 0 }}>
        The source is read from its beginning, which takes as long as a first load, and compared with the warehouse. Nothing is
        written.
      </p>
      <div style={{ display: "flex", gap: 8 }}>
        <Button onPress={() => verify.mutate(false)} isPending={verify.isPending}>
          Compare keys
        </Button>
        <Button onPress={() => verify.mutate(true)} isPending={verify.isPending}>
          Compare values too
        </Button>
      </div>
      {verify.isError && <Trouble facts={factsOf(verify.error)} />}
      {verify.data && (
        <>
          <Grid<VerifiedTable>
            label="Verified tables"
            rows={verify.data}
            id={(table) => table.table}
            empty="No tables."
            columns={[
              { name: "Table", show: (table) => <b>{table.table}</b>, width: "24%" },
              { name: "Source", show: (table) => count(table.source), end: true },
              { name: "Warehouse", show: (table) => count(table.warehouse), end: true },
              { name: "Only source", show: (table) => figure(table.only_source), end: true },
              { name: "Only warehouse", show: (table) => figure(table.only_warehouse), end: true },
              { name: "Differing", show: (table) => figure(table.differing), end: true },
              {
                name: "",
                show: (table) => <Badge word={table.error ? table.error.code : table.same ? "same" : "differs"} />,
              },
            ]}
          />
          {verify.data
            .filter((table) => table.lacking.length > 0)
            .map((table) => (
              <p key={table.table}>
                <b>{table.table}</b>: columns that no run has loaded yet: {table.lacking.join(", ")}
              </p>
            ))}
          {differences(verify.data).length > 0 && (
            <Grid<Difference>
              label="First differences"
              rows={differences(verify.data)}
              id={(row) => row.id}
              empty=""
              columns={[
                { name: "Table", show: (row) => row.table, width: "16%" },
                { name: "Key", show: (row) => row.key, mono: true, width: "14%" },
                { name: "What", show: (row) => row.what, width: "18%" },
                { name: "Column", show: (row) => row.column, width: "14%" },
                { name: "Source", show: (row) => row.source, mono: true },
                { name: "Warehouse", show: (row) => row.warehouse, mono: true },
              ]}
            />
          )}
        </>
      )}
    </Section>
  );
}
