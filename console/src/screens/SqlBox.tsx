import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { TextArea, TextField } from "react-aria-components";
import styled from "styled-components";
import { csv, save } from "../lib/csv";
import { duration, plural } from "../lib/format";
import { askSql } from "../lib/queries";
import { Button } from "../ui/Button";
import { OneOf } from "../ui/Field";
import { Section } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf } from "./Loaded";
import { RowsGrid } from "./RowsGrid";

const Area = styled(TextArea)`
  width: 100%;
  min-height: 64px;
  resize: vertical;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  color: ${({ theme }) => theme.color.ink};
  font: ${({ theme }) => theme.size.small}/1.5 ${({ theme }) => theme.font.mono};
  padding: 8px 10px;
`;

const Line = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: ${({ theme }) => theme.space.m};
  align-items: flex-end;
  select { max-width: 300px; text-overflow: ellipsis; }
  > span { padding-bottom: 6px; }
  color: ${({ theme }) => theme.color.inkSoft};
`;

/** What was asked of a warehouse, the latest first; kept by the browser. */
const KEPT = 30;
const held = (warehouse: string): string[] => JSON.parse(localStorage.getItem(`reed-sql-${warehouse}`) ?? "[]") as string[];

function keep(warehouse: string, sql: string): string[] {
  const next = [sql, ...held(warehouse).filter((one) => one !== sql)].slice(0, KEPT);
  localStorage.setItem(`reed-sql-${warehouse}`, JSON.stringify(next));
  return next;
}

const LIMITS = ["200", "1000", "10000"] as const;
const TIMES = ["10", "30", "50"] as const;

/** A worksheet: one statement at a time, read only, bounded in rows and time; Ctrl-Enter asks. */
export function SqlBox({ warehouse, first }: { warehouse: string; first: string }) {
  const [asked, setAsked] = useState(() => held(warehouse));
  const [sql, setSql] = useState(() => asked[0] ?? first);
  const [limit, setLimit] = useState<(typeof LIMITS)[number]>("200");
  const [seconds, setSeconds] = useState<(typeof TIMES)[number]>("10");
  const ask = useMutation({
    mutationFn: () => askSql(warehouse, sql, Number(limit), Number(seconds)),
    onSuccess: () => setAsked(keep(warehouse, sql)),
  });
  return (
    <Section>
      <TextField aria-label="SQL statement" value={sql} onChange={setSql}>
        <Area
          spellCheck={false}
          onKeyDown={(event) => {
            if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) ask.mutate();
          }}
        />
      </TextField>
      <Line>
        <Button look="main" onPress={() => ask.mutate()} isPending={ask.isPending}>
          Ask
        </Button>
        <OneOf label="Rows at most" value={limit} of={LIMITS} change={setLimit} />
        <OneOf label="Seconds at most" value={seconds} of={TIMES} change={setSeconds} />
        {asked.length > 0 && (
          <OneOf
            label="History"
            value={asked.includes(sql) ? sql : ""}
            of={["", ...asked]}
            change={(text) => text && setSql(text)}
          />
        )}
        <span role="status">
          {ask.data
            ? `${plural(ask.data.rows.length, "row")}${ask.data.truncated ? ", cut there" : ""}, ${duration(ask.data.seconds)}`
            : "Ctrl-Enter runs the query. Read only."}
        </span>
        {ask.data && ask.data.rows.length > 0 && (
          <Button onPress={() => save(`${warehouse}.csv`, csv(ask.data))}>Download as CSV</Button>
        )}
      </Line>
      {ask.error && <Trouble facts={factsOf(ask.error)} />}
      {ask.data && <RowsGrid label="Answer" rows={ask.data} height="46vh" />}
    </Section>
  );
}
