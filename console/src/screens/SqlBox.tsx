import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { TextArea, TextField } from "react-aria-components";
import styled from "styled-components";
import { duration, plural } from "../lib/format";
import { askSql } from "../lib/queries";
import { Button } from "../ui/Button";
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
  gap: ${({ theme }) => theme.space.m};
  align-items: center;
  color: ${({ theme }) => theme.color.inkSoft};
`;

/** One statement, read only; Ctrl-Enter asks. */
export function SqlBox({ warehouse, first }: { warehouse: string; first: string }) {
  const [sql, setSql] = useState(first);
  const ask = useMutation({ mutationFn: () => askSql(warehouse, sql) });
  return (
    <>
      <TextField aria-label="SQL statement" value={sql} onChange={setSql}>
        <Area
          spellCheck={false}
          onKeyDown={(event) => {
            if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) ask.mutate();
          }}
        />
      </TextField>
      <Line>
        <Button onPress={() => ask.mutate()} isPending={ask.isPending}>
          Ask
        </Button>
        <span role="status">
          {ask.data
            ? `${plural(ask.data.rows.length, "row")}${ask.data.truncated ? ", cut there" : ""}, ${duration(ask.data.seconds)}`
            : "Ctrl-Enter asks; nothing can be changed from here."}
        </span>
      </Line>
      {ask.error && <Trouble facts={factsOf(ask.error)} />}
      {ask.data && <RowsGrid label="Answer" rows={ask.data} />}
    </>
  );
}
