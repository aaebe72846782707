import type { UseMutationResult } from "@tanstack/react-query";
import { useState } from "react";
import type { Method, Source, SurveyedColumn, SurveyedTable } from "../lib/api-types";
import { count, plural } from "../lib/format";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Choices } from "../ui/Choices";
import { Grid } from "../ui/Grid";
import { Actions, Fact, Facts, Section } from "../ui/Page";
import { Sides } from "../ui/Sides";
import { Trouble } from "../ui/States";
import { factsOf } from "./Loaded";

export type Survey = UseMutationResult<SurveyedTable[], Error, void>;

/** What a source offers: an API by a page or two of each table, a database by its catalog, files by a list of them. */
export function SurveyView({ survey, tables, source }: { survey: Survey; tables: string[]; source: Source }) {
  const [chosen, choose] = useState<string | null>(null);
  const found = survey.data ?? [];
  const shown = found.find((table) => table.table === chosen) ?? found[0];
  return (
    <Section>
      <Actions>
        <Button onPress={() => survey.mutate()} isPending={survey.isPending}>
          {survey.data ? "Refresh" : "Survey"}
        </Button>
        <small>
          {source.files
            ? "Lists the files, and looks into one of each kind. Nothing is stored."
            : source.database
              ? "Reads the catalog only, no rows. Nothing is stored."
              : source.discover_tables
                ? "Asks which tables there are, and for a page or two of each. Nothing is stored."
                : `Asks for a page or two of each of its ${plural(tables.length, "table")}. Nothing is stored.`}
        </small>
      </Actions>
      {survey.isError && <Trouble facts={factsOf(survey.error)} />}
      {shown && (
        <Sides>
          <Choices
            label="Tables of the source"
            items={found.map((table) => ({
              id: table.table,
              under: table.error || !table.readable ? "cannot be read" : sizeOf(table),
            }))}
            chosen={shown.table}
            choose={choose}
          />
          {source.database ? <Described key={shown.table} table={shown} /> : <Surveyed key={shown.table} table={shown} />}
        </Sides>
      )}
    </Section>
  );
}

const sizeOf = (table: SurveyedTable) =>
  table.what.startsWith("files")
    ? `${plural(table.total ?? 0, "file")}${table.columns.length > 0 ? `, ${plural(table.columns.length, "column")}` : ""}`
    : table.what !== "endpoint"
      ? `${table.total === null ? table.what : `about ${plural(table.total, "row")}`}, ${plural(table.columns.length, "column")}`
      : `${table.total === null ? `${count(table.records)} looked at` : plural(table.total, "record")}, ${plural(table.columns.length, "column")}`;

function Surveyed({ table }: { table: SurveyedTable }) {
  if (table.error) return <Trouble facts={table.error} />;
  const files = table.what.startsWith("files");
  const may = (declared: string, could: string[]) =>
    declared || (could.length > 0 ? `could be ${could.slice(0, 3).join(" or ")}` : "none seen");
  return (
    <Section>
      <Facts>
        <Fact name="Key">{may(table.key.join(", "), table.keys)}</Fact>
        {!files && <Fact name="Cursor">{may(table.cursor ?? "", table.cursors)}</Fact>}
        {files && <Fact name="Files">{table.description}</Fact>}
        <Fact name="Records read">{plural(table.records, "record")}</Fact>
        {table.total !== null && !files && <Fact name="Total at the source">{plural(table.total, "record")}</Fact>}
        {table.lists.length > 0 && <Fact name="Lists, to be child tables">{table.lists.join(", ")}</Fact>}
        {table.parent && <Fact name="One request per">{table.parent}</Fact>}
      </Facts>
      <code>{table.request}</code>
      <Grid<SurveyedColumn>
        label={`Columns of ${table.table}`}
        rows={table.columns}
        id={(column) => column.name}
        empty={
          files ? "These are no records; a feed can copy them as they are (`copy`)." : "No record came, so no column is known."
        }
        height="52vh"
        columns={[
          { name: "Column", show: (column) => <b>{column.name}</b>, width: "24%" },
          { name: "Type", show: (column) => column.type, width: "12%" },
          { name: "Nulls", show: (column) => (column.nulls ? count(column.nulls) : ""), end: true, width: "8%" },
          { name: "Distinct", show: (column) => count(column.distinct ?? 0), end: true, width: "9%" },
          { name: "Usable as", show: (column) => <Roles table={table} column={column.name} />, width: "15%" },
          {
            name: "Examples",
            show: (column) => <span title={column.examples.join("\n")}>{column.examples.join(" · ")}</span>,
            width: "32%",
          },
        ]}
      />
    </Section>
  );
}

/** A table of a database: its columns as declared, and what each way to find changes would miss. */
function Described({ table }: { table: SurveyedTable }) {
  return (
    <Section>
      <Facts>
        <Fact name="Key">{table.key.join(", ") || "none declared"}</Fact>
        <Fact name="Cursor">{table.cursors.length > 0 ? `could be ${table.cursors.slice(0, 3).join(" or ")}` : "none seen"}</Fact>
        <Fact name={table.what === "view" ? "View" : "Table"}>
          {table.total === null ? "rows not counted" : `about ${plural(table.total, "row")}`}
        </Fact>
        {table.description && <Fact name="About">{table.description}</Fact>}
      </Facts>
      <Grid<Method>
        label={`Ways to find changes of ${table.table}`}
        rows={table.methods}
        id={(method) => method.by}
        empty="None."
        columns={[
          { name: "Changes by", show: (method) => <b>{method.by}</b>, width: "16%" },
          { name: "Cannot see", show: (method) => <span title={method.misses}>{method.misses}</span>, width: "84%" },
        ]}
      />
      <Grid<SurveyedColumn>
        label={`Columns of ${table.table}`}
        rows={table.columns}
        id={(column) => column.name}
        empty="No column."
        height="44vh"
        columns={[
          { name: "Column", show: (column) => <b>{column.name}</b>, width: "26%" },
          { name: "Declared", show: (column) => column.declared, mono: true, width: "24%" },
          { name: "Type", show: (column) => column.type || "from its values", width: "14%" },
          { name: "Null", show: (column) => (column.nullable ? "" : "never"), width: "8%" },
          { name: "Usable as", show: (column) => <Roles table={table} column={column.name} />, width: "16%" },
          { name: "Index", show: (column) => (table.indexed.includes(column.name) ? "first in one" : ""), width: "12%" },
        ]}
      />
    </Section>
  );
}

function Roles({ table, column }: { table: SurveyedTable; column: string }) {
  return (
    <>
      {(table.key.includes(column) || table.keys.includes(column)) && (
        <Badge word="key" tone={table.key.includes(column) ? "good" : undefined} />
      )}{" "}
      {(table.cursor === column || table.cursors.includes(column)) && (
        <Badge word="cursor" tone={table.cursor === column ? "good" : undefined} />
      )}
    </>
  );
}
