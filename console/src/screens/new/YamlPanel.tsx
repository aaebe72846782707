import { useMutation } from "@tanstack/react-query";
import { TextArea, TextField } from "react-aria-components";
import styled from "styled-components";
import { ApiError } from "../../lib/api";
import { applyFiles } from "../../lib/queries";
import { Button } from "../../ui/Button";
import { Actions, Section } from "../../ui/Page";
import { Hint, Trouble } from "../../ui/States";
import { factsOf } from "../Loaded";
import type { Draft } from "./useDraft";

const Area = styled(TextArea)`
  width: 100%;
  height: calc(100vh - 300px);
  min-height: 260px;
  resize: vertical;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  color: ${({ theme }) => theme.color.ink};
  font: ${({ theme }) => theme.size.small}/1.55 ${({ theme }) => theme.font.mono};
  padding: 10px 12px;
  tab-size: 2;
`;

interface Mistake {
  line: number;
  path: string;
  message: string;
  code: string;
}

/** What the service found wrong with definitions, each with its line. */
export function Mistakes({ error }: { error: Error }) {
  const details = error instanceof ApiError ? error.problem.details : undefined;
  const found = Array.isArray(details) ? (details as Mistake[]) : [];
  if (found.length === 0) return <Trouble facts={factsOf(error)} />;
  return (
    <>
      {found.slice(0, 12).map((one, place) => (
        <Trouble key={place} facts={{ message: `Line ${one.line}, ${one.path}: ${one.message}`, code: one.code }} />
      ))}
      {found.length > 12 && <p>{`and ${found.length - 12} more`}</p>}
    </>
  );
}

/** The definitions as they will be kept, to be edited as text; forms and text are one thing. */
export function YamlPanel({ draft }: { draft: Draft }) {
  const check = useMutation({ mutationFn: () => applyFiles({ "draft.yaml": draft.text }, true) });
  return (
    <Section>
      <Actions>
        <Button onPress={() => check.mutate()} isPending={check.isPending}>
          Check it
        </Button>
        <small role="status">
          {check.isSuccess
            ? `It reads: ${check.data.map((one) => `${one.kind} ${one.name} ${one.change}`).join(", ") || "nothing in it yet"}.`
            : "Checks the whole definition; nothing is saved."}
        </small>
      </Actions>
      {draft.problem && <Hint>{`It does not read as YAML: ${draft.problem}. The forms wait until it does.`}</Hint>}
      {check.isError && <Mistakes error={check.error} />}
      <TextField aria-label="Definitions as YAML" value={draft.text} onChange={draft.setText}>
        <Area spellCheck={false} />
      </TextField>
    </Section>
  );
}
