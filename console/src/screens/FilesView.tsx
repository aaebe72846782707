import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { FileLine } from "../lib/api-types";
import { count, moment, plural, size } from "../lib/format";
import { askFilesAgain, filesQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { InRow } from "../ui/Field";
import { Grid } from "../ui/Grid";
import { Actions, Section } from "../ui/Page";
import { Hint, Trouble } from "../ui/States";
import { factsOf, Loaded } from "./Loaded";

const MOST = 100;
const tones: Record<string, "good" | "bad" | "warn"> = { taken: "good", bad: "bad", left: "warn", gone: "warn", again: "warn" };
const meant: Record<string, string> = {
  taken: "its rows are in the table",
  bad: "it could not be read whole, and none of it is loaded",
  left: "it changed, and is left as it was, as the feed says",
  gone: "it is not at the source any more; its rows stay",
  again: "the next run takes it once more",
};

/** Which files of the feed were taken, the latest first; any of them may be taken once more. */
export function FilesView({ feed }: { feed: string }) {
  const [bad, setBad] = useState(false);
  const files = useQuery(filesQuery(feed, bad, MOST));
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: (line: FileLine) => askFilesAgain(feed, line.table, [line.path]),
    onSuccess: () => client.invalidateQueries({ queryKey: ["files", feed] }),
  });
  return (
    <Loaded query={files} what="files">
      {(found) => (
        <Section>
          <Actions>
            <span>{bad ? `${plural(found.length, "file")} that could not be read` : plural(found.length, "file")}</span>
            {found.length === MOST && <small>{`the latest ${count(MOST)}; \`reed files ${feed}\` finds any`}</small>}
            <Button look="quiet" onPress={() => setBad(!bad)}>
              {bad ? "Show all" : "Only those that could not be read"}
            </Button>
          </Actions>
          {again.isError && <Trouble facts={factsOf(again.error)} />}
          {again.isSuccess && <Hint>{`The next run takes ${again.variables.path} once more.`}</Hint>}
          <Grid<FileLine>
            label="Files"
            rows={found}
            id={(line) => `${line.warehouse} ${line.table} ${line.number}`}
            empty={bad ? "None: every file that was met could be read." : "No file yet. A run takes those that match, each once."}
            height="56vh"
            columns={[
              { name: "Table", show: (line) => line.table, width: "10%" },
              ...(several(found) ? [{ name: "Into", show: (line: FileLine) => line.warehouse, width: "10%" }] : []),
              {
                name: "File",
                show: (line) => (
                  <span title={line.problem || line.path}>
                    {line.path}
                    {line.problem && <small>{line.problem.replace(`${line.path} `, "")}</small>}
                  </span>
                ),
                width: several(found) ? "23%" : "33%",
              },
              {
                name: "State",
                show: (line) => (
                  <span title={meant[line.state]}>
                    <Badge word={line.state} tone={tones[line.state]} />
                  </span>
                ),
                width: "8%",
              },
              { name: "Rows", show: (line) => count(line.rows), end: true, width: "7%" },
              { name: "Size", show: (line) => size(line.size), end: true, width: "8%" },
              { name: "Changed there", show: (line) => (line.modified ? moment(line.modified).slice(0, 16) : ""), width: "14%" },
              { name: "Taken", show: (line) => (line.at ? moment(line.at).slice(5, 16) : ""), width: "11%" },
              {
                name: "Again",
                show: (line) =>
                  line.state !== "again" &&
                  line.state !== "gone" && (
                    <InRow type="button" onClick={() => again.mutate(line)} aria-label={`Take ${line.path} again`}>
                      Take again
                    </InRow>
                  ),
                width: "10%",
              },
            ]}
          />
        </Section>
      )}
    </Loaded>
  );
}

/** Whether the feed loads into several warehouses, each of which knows its own files. */
const several = (found: FileLine[]): boolean => found.some((line) => line.warehouse !== found[0]?.warehouse);
