import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import type { Preview, SurveyedColumn, SurveyedTable } from "../../lib/api-types";
import { asName, type Doc, of, put, sourceOnly, text } from "../../lib/draft";
import { count, plural } from "../../lib/format";
import { previewDraft } from "../../lib/queries";
import { Badge } from "../../ui/Badge";
import { Button } from "../../ui/Button";
import { Find } from "../../ui/Find";
import { Grid } from "../../ui/Grid";
import { Actions, Section } from "../../ui/Page";
import { Sides } from "../../ui/Sides";
import { Hint, Trouble } from "../../ui/States";
import { factsOf } from "../Loaded";
import { RowsGrid } from "../RowsGrid";
import type { Survey } from "../SurveyView";
import type { Draft } from "./useDraft";
import { Mistakes } from "./YamlPanel";

const List = styled.div`
  display: grid;
  gap: 6px;
  ul {
    list-style: none;
    margin: 0;
    padding: 4px;
    max-height: 54vh;
    overflow: auto;
    border: 1px solid ${({ theme }) => theme.color.line};
    border-radius: ${({ theme }) => theme.radius};
    background: ${({ theme }) => theme.color.surface};
  }
  li { display: grid; grid-template-columns: auto minmax(0, 1fr); gap: 8px; align-items: center; padding: 2px 6px; border-radius: 4px; }
  li[data-open="true"] { background: ${({ theme }) => theme.color.reedSoft}; }
  li button { border: 0; background: none; font: inherit; color: inherit; text-align: left; padding: 2px 0; cursor: pointer; min-width: 0; overflow-wrap: anywhere; }
  li small { display: block; color: ${({ theme }) => theme.color.inkSoft}; }
  li input { accent-color: ${({ theme }) => theme.color.reed}; width: 15px; height: 15px; }
`;

export const keyOf = (table: SurveyedTable): string =>
  table.what.startsWith("files") ? asName(table.table.replace(/\{[^}]*\}|\.\w+$|[*?]/g, "")) : table.table;

const entryOf = (table: SurveyedTable): Doc | null => (table.what.startsWith("files") ? { files: table.table } : null);

/** What the source offers: search it, look into it, take what is wanted. */
export function TablesStep({ draft, survey, found }: { draft: Draft; survey: Survey; found: SurveyedTable[] }) {
  const [words, find] = useState("");
  const [open, setOpen] = useState<string | null>(null);
  const feed = of(draft.docs, "feed");
  const from = text(feed?.from);
  const taken = (feed?.tables ?? {}) as Record<string, Doc | null>;
  const shown = found.filter((table) => table.table.toLowerCase().includes(words.trim().toLowerCase()));
  const here = found.find((table) => table.table === open) ?? shown[0];
  const turn = (some: SurveyedTable[], on: boolean) =>
    draft.change((docs) => {
      const now = of(docs, "feed") ?? { feed: "" };
      const tables = { ...((now.tables ?? {}) as Record<string, Doc | null>) };
      for (const table of some) {
        if (on) tables[keyOf(table)] ??= entryOf(table);
        else delete tables[keyOf(table)];
      }
      return put(docs, "feed", { ...now, tables });
    });
  const may = shown.filter((table) => table.readable && !table.error);
  return (
    <Section>
      <Actions>
        <Button look={found.length > 0 ? "plain" : "main"} onPress={() => survey.mutate()} isPending={survey.isPending}>
          {found.length > 0 ? "Refresh" : "Show tables"}
        </Button>
        <small>{`${plural(Object.keys(taken).length, "table")} chosen`}</small>
      </Actions>
      {!from && <Hint>Choose a source first.</Hint>}
      {survey.isError && <Mistakes error={survey.error} />}
      {here && (
        <Sides style={{ "--side": "268px" } as object}>
          <List>
            <Find label="Find tables" hint={`Find one of ${count(found.length)}`} words={words} find={find} />
            <Actions>
              <Button look="quiet" onPress={() => turn(may, true)} isDisabled={may.length === 0}>
                {words ? "Select these" : "Select all"}
              </Button>
              <Button look="quiet" onPress={() => turn(shown, false)}>
                {words ? "Clear these" : "Clear all"}
              </Button>
            </Actions>
            <ul aria-label="Tables of the source">
              {shown.map((table) => (
                <li key={table.table} data-open={table.table === here.table}>
                  <input
                    type="checkbox"
                    aria-label={`Select ${table.table}`}
                    checked={keyOf(table) in taken}
                    disabled={!table.readable}
                    onChange={(event) => {
                      turn([table], event.target.checked);
                      setOpen(table.table);
                    }}
                  />
                  <button type="button" onClick={() => setOpen(table.table)} aria-pressed={table.table === here.table}>
                    {table.table}
                    <small>{sizeOf(table)}</small>
                  </button>
                </li>
              ))}
            </ul>
          </List>
          <OneTable key={here.table} draft={draft} from={from} table={here} />
        </Sides>
      )}
    </Section>
  );
}

const sizeOf = (table: SurveyedTable): string => {
  if (table.error || !table.readable) return "cannot be read";
  const unit = table.what.startsWith("files") ? "file" : table.what === "endpoint" ? "record" : "row";
  return `${table.total === null ? (table.records ? `${count(table.records)} read` : table.what) : plural(table.total, unit)}, ${plural(table.columns.length, "column")}`;
};

function OneTable({ draft, from, table }: { draft: Draft; from: string; table: SurveyedTable }) {
  const preview = useMutation({ mutationFn: () => previewDraft(sourceOnly(draft.docs), from, table.table) });
  return (
    <Section>
      <Actions>
        <h2>{table.table}</h2>
        <Button onPress={() => preview.mutate()} isPending={preview.isPending} isDisabled={!table.readable}>
          Show some records
        </Button>
        <small>{table.description}</small>
      </Actions>
      {table.error && <Trouble facts={table.error} />}
      {preview.isError && <Trouble facts={factsOf(preview.error)} />}
      {preview.data && <Records name={table.table} preview={preview.data} />}
      <Grid<SurveyedColumn>
        label={`Columns of ${table.table}`}
        rows={table.columns}
        id={(column) => column.name}
        empty="No column is known yet: no record came."
        height={preview.data ? "24vh" : "54vh"}
        columns={[
          { name: "Column", show: (column) => <b>{column.name}</b>, width: "26%" },
          { name: "Type", show: (column) => column.type || "from its values", width: "14%" },
          {
            name: "Usable as",
            show: (column) => (
              <>
                {[...table.key, ...table.keys].includes(column.name) && (
                  <Badge word="key" tone={table.key.includes(column.name) ? "good" : undefined} />
                )}{" "}
                {[table.cursor, ...table.cursors].includes(column.name) && (
                  <Badge word="cursor" tone={table.cursor === column.name ? "good" : undefined} />
                )}
              </>
            ),
            width: "18%",
          },
          {
            name: "Examples, or as declared",
            show: (column) => <span title={column.examples.join("\n")}>{column.examples.join(" · ") || column.declared}</span>,
            width: "42%",
          },
        ]}
      />
    </Section>
  );
}

const Records = ({ name, preview }: { name: string; preview: Preview }) => (
  <>
    <RowsGrid label={`Records of ${name}`} rows={{ ...preview, truncated: false, seconds: 0 }} height="30vh" />
    {preview.rejects.length > 0 && (
      <Hint>{`${plural(preview.rejects.length, "record")} would be rejected: ${preview.rejects[0]}`}</Hint>
    )}
  </>
);
