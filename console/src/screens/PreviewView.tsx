import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { ApiError } from "../lib/api";
import type { Exchange } from "../lib/api-types";
import { laidOut, plural } from "../lib/format";
import { previewFiles, previewTable } from "../lib/queries";
import { Button } from "../ui/Button";
import { Choices } from "../ui/Choices";
import { Actions, Section } from "../ui/Page";
import { Sides } from "../ui/Sides";
import { Hint, Trouble } from "../ui/States";
import { factsOf } from "./Loaded";
import { RowsGrid } from "./RowsGrid";
import type { Survey } from "./SurveyView";

/** The first records of a table, and what went over the wire to get them. */
export function PreviewView({
  source,
  tables,
  survey,
  files,
}: {
  source: string;
  tables: string[];
  survey?: Survey;
  files?: boolean;
}) {
  const [chosen, setTable] = useState("");
  const table = chosen || (tables[0] ?? "");
  const preview = useMutation({
    mutationFn: (from: string) => (files ? previewFiles(source, from, 20) : previewTable(source, from, 20, true)),
  });
  const look = (from: string) => {
    setTable(from);
    preview.mutate(from);
  };
  const failedWith =
    preview.error instanceof ApiError ? (preview.error.problem.details as { exchanges?: Exchange[] } | undefined) : undefined;
  const exchanges = preview.data?.exchanges ?? failedWith?.exchanges ?? [];
  if (survey && tables.length === 0)
    return (
      <Section>
        <Actions>
          <Button onPress={() => survey.mutate()} isPending={survey.isPending}>
            Survey
          </Button>
          <small>Survey the source to list its tables; then choose one.</small>
        </Actions>
        {survey.isError && <Trouble facts={factsOf(survey.error)} />}
      </Section>
    );
  return (
    <Sides>
      <Choices label="Tables to preview at" items={tables.map((name) => ({ id: name }))} chosen={table} choose={look} />
      <Section>
        <Actions>
          <Button onPress={() => look(table)} isPending={preview.isPending}>
            {`Preview at ${table}`}
          </Button>
          <small>
            {files
              ? (preview.data?.note ?? "The first records of a file that matches.")
              : survey
                ? "Its first rows. Nothing is stored."
                : "One request, as the connector makes it; secrets are blanked. Nothing is stored."}
          </small>
        </Actions>
        {preview.isError && <Trouble facts={factsOf(preview.error)} />}
        {preview.data && (
          <RowsGrid
            label={`Records of ${table}`}
            rows={{ ...preview.data, truncated: false, seconds: 0 }}
            height={survey ? "62vh" : "34vh"}
          />
        )}
        {(preview.data?.rejects.length ?? 0) > 0 && (
          <Hint>{`${plural(preview.data!.rejects.length, "record")} would be rejected: ${preview.data!.rejects[0]}`}</Hint>
        )}
        {exchanges.map((exchange, index) => (
          <Wire key={index} exchange={exchange} />
        ))}
      </Section>
    </Sides>
  );
}

const Pair = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: ${({ theme }) => theme.space.m};
`;

const Text = styled.pre`
  margin: 0;
  padding: ${({ theme }) => theme.space.m};
  height: 38vh;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  font: ${({ theme }) => theme.size.tiny}/1.55 ${({ theme }) => theme.font.mono};
  i { font-style: normal; color: ${({ theme }) => theme.color.inkFaint}; }
`;

/** The request on one side, the answer on the other. */
export function Wire({ exchange }: { exchange: Exchange }) {
  return (
    <Pair>
      <Text aria-label="Request" tabIndex={0}>
        <b>{`${exchange.method} ${exchange.url}`}</b>
        {"\n"}
        <Headers headers={exchange.headers} />
        {exchange.body && `\n${laidOut(exchange.body, 40)}`}
      </Text>
      <Text aria-label="Answer" tabIndex={0}>
        <b>{exchange.status}</b>
        {"\n"}
        <Headers headers={exchange.answer_headers} />
        {`\n${laidOut(exchange.answer_body, 64)}`}
        {exchange.cut && "\n… longer than what is shown"}
      </Text>
    </Pair>
  );
}

const Headers = ({ headers }: { headers: Record<string, string> }) => (
  <i>{Object.entries(headers).map(([name, value]) => `${name}: ${value}\n`)}</i>
);
