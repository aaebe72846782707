import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import type { PlannedTable } from "../lib/api-types";
import { count, plural } from "../lib/format";
import { planQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Section } from "../ui/Page";
import { Hint, Trouble } from "../ui/States";
import { Loaded } from "./Loaded";

const Card = styled.article`
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  padding: ${({ theme }) => `${theme.space.m} ${theme.space.l}`};
  h2 { margin: 0 0 4px; font-size: ${({ theme }) => theme.size.heading}; display: flex; gap: 10px; align-items: center; }
  p { margin: 2px 0; color: ${({ theme }) => theme.color.inkSoft}; overflow-wrap: anywhere; }
  ul { list-style: none; margin: 8px 0 0; padding: 0; display: flex; flex-wrap: wrap; gap: 6px; }
  li { background: ${({ theme }) => theme.color.sunken}; border-radius: 4px; padding: 1px 7px; font-size: ${({ theme }) => theme.size.small}; }
  li b { font-weight: 600; }
  li[data-new="true"] { background: ${({ theme }) => theme.color.reedSoft}; }
`;

/** What a run would do now. Asks the source for one page of each table, and writes nothing. */
export function PlanView({ feed }: { feed: string }) {
  const plan = useQuery(planQuery(feed));
  return (
    <Loaded query={plan} what="the plan; a page of each table is read from the source">
      {(found) => (
        <Section>
          <div>
            <Button onPress={() => void plan.refetch()} isPending={plan.isFetching}>
              Plan again
            </Button>
          </div>
          {found.tables.map((table) => (
            <TablePlan key={`${table.warehouse} ${table.table} ${table.source_table}`} table={table} />
          ))}
          {found.ignored.length > 0 && <p>Tables of the connector that are not part of this feed: {found.ignored.join(", ")}</p>}
        </Section>
      )}
    </Loaded>
  );
}

export function TablePlan({ table }: { table: PlannedTable }) {
  const name = table.table || table.source_table;
  const state = table.error ? "cannot be planned" : !table.table ? "not read" : table.exists ? "exists" : "will be created";
  return (
    <Card>
      <h2>
        {table.warehouse ? `${name} in ${table.warehouse}` : name} <Badge word={state} />
      </h2>
      {table.error && <Trouble facts={table.error} />}
      {table.parent !== null && <p>Child of {table.parent}.</p>}
      {table.by && !table.error && (
        <>
          <p>
            Changes by {table.by}, {table.write}
            {table.deletes !== "" && table.deletes !== "hard" && `, deletes: ${table.deletes}`}
            {table.key.length > 0 && `, key ${table.key.join(", ")}`}
            {table.cursor_until !== null && `; from ${table.cursor_from ?? "the beginning"} until ${table.cursor_until}`}.
          </p>
          <p>
            {table.records === null ? "The source does not say how many records" : plural(table.records, "record")}
            {table.requests !== null && `, ${plural(table.requests, "request")}`}
            {table.seconds !== null && `, roughly ${table.seconds} s of asking`}.
            {table.sample_rejects > 0 && ` ${count(table.sample_rejects)} of the first page would be rejected.`}
            {table.sample_filtered > 0 && ` ${count(table.sample_filtered)} of it are left out by keep.`}
          </p>
          {[...table.steps, ...table.drift.map((change) => `Drift: ${change.words}`)].map((words) => (
            <p key={words}>{words}</p>
          ))}
          {table.losses.map((loss) => (
            <Hint key={loss}>
              Would be lost: {loss}. To accept that, use <code>reed run --allow-loss</code>.
            </Hint>
          ))}
        </>
      )}
      {table.warnings.map((warning) => (
        <p key={warning.code + warning.words}>
          Note: {warning.words}. <code>{warning.code}</code>
        </p>
      ))}
      <ul aria-label={`Columns of ${table.table}`}>
        {table.new_columns.map((column) => (
          <li key={column.name} data-new="true">
            + <b>{column.name}</b> {column.type}
          </li>
        ))}
        {table.columns.map((column) => (
          <li key={column.name}>
            <b>{column.name}</b> {column.type}
          </li>
        ))}
      </ul>
      {table.only_nulls.length > 0 && <p>Only nulls so far, so no column yet: {table.only_nulls.join(", ")}</p>}
      {table.unmatched.length > 0 && <p>The feed names columns that no record has: {table.unmatched.join(", ")}</p>}
    </Card>
  );
}
