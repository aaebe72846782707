import { useState } from "react";
import styled from "styled-components";
import type { SurveyedColumn, SurveyedTable } from "../../lib/api-types";
import { type Doc, of, put, text, tidy, under, withValue } from "../../lib/draft";
import { Choices } from "../../ui/Choices";
import { Field, FormLine, OneOf } from "../../ui/Field";
import { Grid } from "../../ui/Grid";
import { Section } from "../../ui/Page";
import { Sides } from "../../ui/Sides";
import { Hint } from "../../ui/States";
import { keyOf } from "./TablesStep";
import type { Draft } from "./useDraft";

const Beside = styled(Sides)`
  td input[type="text"] { width: 100%; font: inherit; padding: 1px 6px; border: 1px solid ${({ theme }) => theme.color.line}; border-radius: 4px; background: ${({ theme }) => theme.color.surface}; color: inherit; }
  p { margin: 0; color: ${({ theme }) => theme.color.inkSoft}; }
`;

type Tables = Record<string, Doc | null>;

const WRITES = ["", "upsert", "append", "replace", "mirror", "versions"] as const;
const writeWords: Record<string, string> = {
  "": "Automatic: upsert where there is a key, mirror for compare, replace when everything is read, else append.",
  upsert: "New keys are inserted, changed rows updated; what is gone stays, unless the source says so.",
  append: "Every record read is a new row.",
  replace: "The whole table is swapped; readers see the old one, then the new one.",
  mirror: "Merged, and what a complete read no longer shows goes.",
  versions: "A row for each version, valid from and until; the present one has no end.",
};

/** Of each table: how its changes are found, how it is written, and which columns come, under which names. */
export function ShapeStep({ draft, found }: { draft: Draft; found: SurveyedTable[] }) {
  const tables = (of(draft.docs, "feed")?.tables ?? {}) as Tables;
  const names = Object.keys(tables);
  const [open, setOpen] = useState(names[0] ?? "");
  const name = names.includes(open) ? open : (names[0] ?? "");
  if (names.length === 0) return <Hint>Choose tables first.</Hint>;
  return (
    <Beside>
      <Choices
        label="Chosen tables"
        items={names.map((id) => ({ id, under: summary(tables[id] ?? {}) }))}
        chosen={name}
        choose={setOpen}
      />
      <OneTable key={name} draft={draft} name={name} own={tables[name] ?? {}} table={found.find((one) => keyOf(one) === name)} />
    </Beside>
  );
}

const summary = (own: Doc): string =>
  [
    text(under(own, "changes", "by")) && `by ${text(under(own, "changes", "by"))}`,
    text(own.write),
    own.exclude_columns ? "some columns left out" : "",
    own.hash ? "hashed" : "",
  ]
    .filter(Boolean)
    .join(", ") || "automatic";

function OneTable({ draft, name, own, table }: { draft: Draft; name: string; own: Doc; table: SurveyedTable | undefined }) {
  const set = (keys: string[], value: unknown) =>
    draft.change((docs) => {
      const feed = of(docs, "feed") ?? { feed: "" };
      const now = ((feed.tables ?? {}) as Tables)[name] ?? {};
      const next = tidy(withValue(now, keys, value));
      return put(docs, "feed", {
        ...feed,
        tables: { ...(feed.tables as Tables), [name]: Object.keys(next).length > 0 ? next : null },
      });
    });
  const by = text(under(own, "changes", "by"));
  const ways =
    table && table.methods.length > 0
      ? table.methods.map((one) => one.by)
      : table?.what.startsWith("files")
        ? []
        : ["full", "compare"];
  const misses = table?.methods.find((one) => one.by === by)?.misses;
  const cursors = [...new Set([text(under(own, "changes", "column")), ...(table?.cursors ?? [])])].filter(Boolean);
  const key = Array.isArray(own.primary_key) ? own.primary_key.join(", ") : text(own.primary_key);
  return (
    <Section>
      <FormLine label="How changes are found" send={() => undefined}>
        <OneOf
          label="Changes by"
          value={by}
          of={["", ...ways]}
          change={(next) =>
            set(["changes"], next === "" ? undefined : next === "cursor" ? { by: next, column: cursors[0] ?? "" } : { by: next })
          }
        />
        {by === "cursor" && (
          <OneOf
            label="Cursor column"
            value={text(under(own, "changes", "column"))}
            of={["", ...cursors]}
            change={(column) => set(["changes", "column"], column)}
          />
        )}
        {by === "cursor" && (
          <Field
            label="Overlap, for late rows"
            value={text(under(own, "changes", "overlap"))}
            change={(value) => set(["changes", "overlap"], value)}
            placeholder="10m"
            width={120}
          />
        )}
        <OneOf label="Write mode" value={text(own.write)} of={WRITES} change={(write) => set(["write"], write)} />
        <Field
          label="Key"
          value={key}
          change={(value) => set(["primary_key"], value.includes(",") ? value.split(",").map((one) => one.trim()) : value)}
          placeholder={table?.key.join(", ") || table?.keys[0] || ""}
          width={160}
        />
      </FormLine>
      <p>
        {by
          ? misses
            ? `By ${by} it misses: ${misses}`
            : ""
          : table?.cursor
            ? `Left empty, the connector's cursor is used: ${table.cursor}.`
            : "Left empty, everything is read each time."}
      </p>
      <p>{writeWords[text(own.write)] ?? ""}</p>
      {table ? (
        <Columns own={own} table={table} set={set} />
      ) : (
        <Hint>Look at the source to see its columns here; what is chosen stays as it is.</Hint>
      )}
    </Section>
  );
}

const listed = (value: unknown): string[] => (Array.isArray(value) ? value.map(String) : value ? [String(value)] : []);

function Columns({ own, table, set }: { own: Doc; table: SurveyedTable; set: (keys: string[], value: unknown) => void }) {
  const [left, hashed] = [listed(own.exclude_columns), listed(own.hash)];
  const becomes = (column: string) => (left.includes(column) ? "left out" : hashed.includes(column) ? "hashed" : "as it is");
  const turn = (column: string, to: string) => {
    const without = (all: string[]) => all.filter((one) => one !== column);
    set(["exclude_columns"], to === "left out" ? [...without(left), column] : without(left));
    set(["hash"], to === "hashed" ? [...without(hashed), column] : without(hashed));
  };
  return (
    <Grid<SurveyedColumn>
      label={`Columns of ${table.table}`}
      rows={table.columns}
      id={(column) => column.name}
      empty="No column is known yet."
      height="46vh"
      columns={[
        { name: "Column", show: (column) => <b>{column.name}</b>, width: "26%" },
        { name: "Type", show: (column) => column.type || column.declared, width: "14%" },
        {
          name: "Load it",
          show: (column) => (
            <select
              aria-label={`Load ${column.name}`}
              value={becomes(column.name)}
              onChange={(event) => turn(column.name, event.target.value)}
            >
              {["as it is", "left out", "hashed"].map((one) => (
                <option key={one}>{one}</option>
              ))}
            </select>
          ),
          width: "15%",
        },
        {
          name: "Name in the warehouse",
          show: (column) => (
            <input
              type="text"
              aria-label={`Name of ${column.name} in the warehouse`}
              value={text(under(own, "rename", column.name))}
              placeholder={column.name}
              onKeyDown={(event) => event.stopPropagation()}
              onChange={(event) => set(["rename", column.name], event.target.value)}
            />
          ),
          width: "22%",
        },
        {
          name: "Examples",
          show: (column) => <span title={column.examples.join("\n")}>{column.examples.join(" · ")}</span>,
          width: "23%",
        },
      ]}
    />
  );
}
