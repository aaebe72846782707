import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import type { RequestLine } from "../lib/api-types";
import { count, duration, moment, plural, size } from "../lib/format";
import { askRun, exchangeQuery, requestsFile, requestsQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { InRow } from "../ui/Field";
import { Grid } from "../ui/Grid";
import { Actions, Section } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf, Loaded } from "./Loaded";
import { Wire } from "./PreviewView";

const MOST = 1000;

/** Without scheme and host, where they are those of most requests; the whole address stands in the tooltip. */
function shorter(url: string, among: RequestLine[]): string {
  const origin = (address: string) => /^https?:\/\/[^/]+/.exec(address)?.[0] ?? "";
  const usual = origin(among[among.length - 1]?.url ?? "");
  return usual && origin(url) === usual ? url.slice(usual.length) : url;
}

const asked = (line: RequestLine, among: RequestLine[]) =>
  `${line.attempt > 1 ? `attempt ${line.attempt} ` : ""}${line.method} ${shorter(line.url, among)}`;

/** Every request of a run, as long as they are kept. all: what went over the wire is kept of those that went well, too. */
export function Requests({ run, feed, active, all }: { run: number; feed: string; active: boolean; all: boolean }) {
  const [failed, setFailed] = useState(false);
  const [open, setOpen] = useState<number | null>(null);
  const navigate = useNavigate();
  const requests = useQuery(requestsQuery(run, failed, active));
  const keep = useMutation({ mutationFn: () => askRun(feed, true), onSuccess: (made) => navigate(`/runs/${made.id}`) });
  return (
    <Loaded query={requests} what="requests">
      {(found) => (
        <>
          <Actions>
            <span>{failed ? `${plural(found.length, "request")} went wrong` : plural(found.length, "request")}</span>
            {found.length === MOST && <small>{`the first ${count(MOST)}; the file holds all`}</small>}
            <Button look="quiet" onPress={() => setFailed(!failed)}>
              {failed ? "Show all" : "Only failed"}
            </Button>
            <a href={requestsFile(run)} download>
              Download as NDJSON
            </a>
            {!all && !active && found.some((line) => line.method !== "SQL" && line.method !== "LOG") && (
              <Button look="quiet" onPress={() => keep.mutate()} isPending={keep.isPending}>
                Run again, and keep the bodies
              </Button>
            )}
          </Actions>
          {keep.isError && <Trouble facts={factsOf(keep.error)} />}
          <Grid<RequestLine>
            label="Requests"
            rows={found}
            id={(line) => line.number}
            height={open === null ? "52vh" : "24vh"}
            empty={
              failed ? "No request failed." : "No requests: the run sent none, or they are older than the service keeps them."
            }
            columns={[
              { name: "At", show: (line) => moment(line.at).slice(11) + line.at.slice(19, 23), mono: true, width: "12%" },
              { name: "Table", show: (line) => line.table, width: "11%" },
              {
                name: "Status",
                show: (line) => (line.problem ? <Badge word={String(line.status ?? "no answer")} tone="bad" /> : line.status),
                width: "8%",
              },
              { name: "Bytes", show: (line) => size(line.bytes), end: true, width: "8%" },
              { name: "Duration", show: (line) => duration(line.seconds), end: true, width: "7%" },
              {
                name: "Waited",
                show: (line) => (line.waited_seconds >= 0.005 ? duration(line.waited_seconds) : ""),
                end: true,
                width: "7%",
              },
              {
                name: "Request",
                show: (line) => (
                  <span title={`${line.url}\n${line.problem}`}>
                    {line.kept ? (
                      <InRow
                        type="button"
                        onClick={() => setOpen(line.number)}
                        aria-label={`What went over the wire of request ${line.number}`}
                      >
                        {asked(line, found)}
                      </InRow>
                    ) : (
                      asked(line, found)
                    )}
                    {line.problem && ` — ${line.problem}`}
                  </span>
                ),
                mono: true,
                width: "47%",
              },
            ]}
          />
          {open !== null && <Exchanged run={run} number={open} close={() => setOpen(null)} />}
        </>
      )}
    </Loaded>
  );
}

/** On demand: the request on one side, its answer on the other. */
function Exchanged({ run, number, close }: { run: number; number: number; close: () => void }) {
  const exchange = useQuery(exchangeQuery(run, number));
  return (
    <Section>
      <Actions>
        <b>{`Request ${number}`}</b>
        <small>secrets are blanked, and of a body its first 16 KiB are kept</small>
        <Button look="quiet" onPress={close}>
          Close
        </Button>
      </Actions>
      <Loaded query={exchange} what="the exchange">
        {(found) => <Wire exchange={found} />}
      </Loaded>
    </Section>
  );
}
