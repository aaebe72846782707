import { useMutation } from "@tanstack/react-query";
import type { CheckStep } from "../lib/api-types";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Grid } from "../ui/Grid";
import { Section } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf } from "./Loaded";

/** Each step on the way to a source's records or into a warehouse, with its result. */
export function CheckView({ ask }: { ask: () => Promise<CheckStep[]> }) {
  const check = useMutation({ mutationFn: ask });
  return (
    <Section>
      <div>
        <Button onPress={() => check.mutate()} isPending={check.isPending}>
          Check the connection
        </Button>
      </div>
      {check.isError && <Trouble facts={factsOf(check.error)} />}
      {check.data && (
        <Grid<CheckStep>
          label="Steps"
          rows={check.data}
          id={(step) => step.step}
          empty=""
          columns={[
            { name: "Step", show: (step) => step.step, width: "12%" },
            {
              name: "Result",
              show: (step) => <Badge word={step.ok === null ? "not reached" : step.ok ? "ok" : "failed"} />,
              width: "12%",
            },
            { name: "Found", show: (step) => step.found },
            { name: "Fix", show: (step) => <span title={step.fix}>{step.fix}</span>, mono: true },
          ]}
        />
      )}
    </Section>
  );
}
