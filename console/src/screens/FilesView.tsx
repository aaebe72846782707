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
const tones: Record<string, "good" | "bad" | "warn"> = {
  loaded: "good",
  failed: "bad",
  ignored: "warn",
  missing: "warn",
  requeued: "warn",
};
const meant: Record<string, string> = {
  loaded: "its rows are in the table",
  failed: "it could not be read to its end, and none of it is loaded",
  ignored: "it changed, and the feed says to leave it as it was loaded",
  missing: "it is no longer at the source; its rows stay",
  requeued: "the next run loads it again",
};

/** The files of the feed, the latest first; any of them may be loaded again. */
export function FilesView({ feed }: { feed: string }) {
  const [failed, setFailed] = useState(false);
  const files = useQuery(filesQuery(feed, failed, MOST));
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
            <span>{failed ? `${plural(found.length, "file")} that could not be read` : plural(found.length, "file")}</span>
            {found.length === MOST && <small>{`the latest ${count(MOST)}; \`reed files ${feed}\` finds any`}</small>}
            <Button look="quiet" onPress={() => setFailed(!failed)}>
              {failed ? "Show all" : "Only failed"}
            </Button>
          </Actions>
          {again.isError && <Trouble facts={factsOf(again.error)} />}
          {again.isSuccess && <Hint>{`The next run loads ${again.variables.path} again.`}</Hint>}
          <Grid<FileLine>
            label="Files"
            rows={found}
            id={(line) => `${line.warehouse} ${line.table} ${line.number}`}
            empty={
              failed ? "None: every file that was met could be read." : "No file yet. A run loads those that match, each once."
            }
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
              { name: "Modified", show: (line) => (line.modified ? moment(line.modified).slice(0, 16) : ""), width: "14%" },
              { name: "Loaded", show: (line) => (line.at ? moment(line.at).slice(5, 16) : ""), width: "11%" },
              {
                name: "Load again",
                show: (line) =>
                  line.state !== "requeued" &&
                  line.state !== "missing" && (
                    <InRow type="button" onClick={() => again.mutate(line)} aria-label={`Load ${line.path} again`}>
                      Load again
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
