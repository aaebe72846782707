import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import type { Reject } from "../lib/api-types";
import { askReplay, rejectsQuery } from "../lib/queries";
import { Button } from "../ui/Button";
import { Grid } from "../ui/Grid";
import { Actions, Section } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf, Loaded } from "./Loaded";

/** Records of a feed that could not be shaped, and the way to take them once more. */
export function RejectsView({ feed }: { feed: string }) {
  const rejects = useQuery(rejectsQuery(feed));
  const navigate = useNavigate();
  const replay = useMutation({ mutationFn: () => askReplay(feed), onSuccess: (run) => navigate(`/runs/${run.id}`) });
  return (
    <Loaded query={rejects} what="rejects">
      {(found) => (
        <Section>
          {found.length > 0 && (
            <Actions>
              <Button onPress={() => replay.mutate()} isPending={replay.isPending}>
                Replay them
              </Button>
              <small>Shapes and loads them again by the current definition; the source is not read.</small>
            </Actions>
          )}
          {replay.isError && <Trouble facts={factsOf(replay.error)} />}
          <Grid<Reject>
            label="Rejects"
            rows={found}
            id={(reject) => reject.id}
            empty="No rejects: every record that was read is in its table."
            columns={[
              { name: "Run", show: (reject) => reject.run, end: true },
              { name: "Warehouse", show: (reject) => reject.warehouse },
              { name: "Table", show: (reject) => reject.source_table },
              { name: "Field", show: (reject) => reject.field },
              { name: "Why", show: (reject) => reject.message },
              { name: "Code", show: (reject) => reject.code, mono: true },
              { name: "Record, as received", show: (reject) => <span title={reject.record}>{reject.record}</span>, mono: true },
            ]}
          />
        </Section>
      )}
    </Loaded>
  );
}
