import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Backfill, DueWindow, Feed } from "../lib/api-types";
import { ago, count, moment, ruleInWords, soon, span } from "../lib/format";
import { askBackfill, backfillsQuery, moveBackfill, windowsAgain, windowsQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Field, FormLine, InRow } from "../ui/Field";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Actions, Fact, Facts, Section } from "../ui/Page";
import { Trouble } from "../ui/States";
import { factsOf, Loaded } from "./Loaded";
import { WindowCalendar } from "./WindowCalendar";

const short = (time: string) =>
  time
    .replace("T00:00:00Z", "")
    .replace("T", " ")
    .replace(/(:00)?Z$/, "");

/** When the feed runs by itself, its windows and how each stands, and ranges of the past that somebody asked for. */
export function ScheduleView({ feed }: { feed: Feed }) {
  const now = useNow();
  const { rule, next_due, paused, windows } = feed.schedule;
  const states = Object.entries(windows).map(([state, n]) => `${count(n)} ${state}`);
  return (
    <Section>
      <Facts>
        <Fact name="Schedule">{rule === null ? "none, runs are started by hand" : ruleInWords(rule)}</Fact>
        {rule !== null && (
          <Fact name="Next">
            {paused ? "when resumed" : next_due ? `${soon(next_due, now)}, ${moment(next_due)}` : "when the other one is done"}
          </Fact>
        )}
        {paused && <Fact name="Paused">{`${ago(paused.paused_at, now)} by ${paused.paused_by}`}</Fact>}
        {feed.fresh_within_seconds !== null && (
          <Fact name="Fresh within">
            {span(feed.fresh_within_seconds)} {feed.late && <Badge word="late" tone="bad" />}
          </Fact>
        )}
        {states.length > 0 && <Fact name="Windows">{states.join(", ")}</Fact>}
      </Facts>
      {states.length > 0 && <Windows feed={feed.name} />}
      <Backfills feed={feed.name} />
    </Section>
  );
}

function Windows({ feed }: { feed: string }) {
  const [wrong, setWrong] = useState(false);
  const windows = useQuery(windowsQuery(feed, wrong ? "failed" : ""));
  const cache = useQueryClient();
  const again = useMutation({
    mutationFn: (window: DueWindow) => windowsAgain(feed, window.begins, window.ends),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["windows", feed] }),
  });
  return (
    <>
      <Actions>
        <h2>Windows</h2>
        <Button look="quiet" onPress={() => setWrong(!wrong)}>
          {wrong ? "Show all" : "Only failed"}
        </Button>
      </Actions>
      {again.isError && <Trouble facts={factsOf(again.error)} />}
      <Loaded query={windows} what="windows">
        {(found) => (
          <>
            {found.length > 0 && <WindowCalendar windows={found} again={(window) => again.mutate(window)} />}
            <Grid<DueWindow>
              label="Windows"
              rows={found}
              id={(window) => window.id}
              empty={wrong ? "No window failed." : "No window is due yet."}
              height="34vh"
              columns={[
                { name: "From", show: (window) => short(window.begins), width: "20%" },
                { name: "Until", show: (window) => short(window.ends), width: "20%" },
                { name: "State", show: (window) => <Badge word={window.state} />, width: "14%" },
                {
                  name: "Run",
                  show: (window) => window.run && <Link to={`/runs/${window.run}`}>{window.run}</Link>,
                  end: true,
                  width: "10%",
                },
                {
                  name: "Of",
                  show: (window) => (window.backfill ? `backfill ${window.backfill}` : "the schedule"),
                  width: "18%",
                },
                {
                  name: "Run again",
                  show: (window) =>
                    window.backfill === null &&
                    (window.state === "failed" || window.state === "skipped") && (
                      <InRow
                        type="button"
                        onClick={() => again.mutate(window)}
                        aria-label={`Run the window from ${window.begins} again`}
                      >
                        Run again
                      </InRow>
                    ),
                  width: "18%",
                },
              ]}
            />
          </>
        )}
      </Loaded>
    </>
  );
}

function Backfills({ feed }: { feed: string }) {
  const found = useQuery(backfillsQuery(feed));
  const cache = useQueryClient();
  const now = useNow();
  const [from, setFrom] = useState("");
  const [until, setUntil] = useState("");
  const [length, setLength] = useState("1d");
  const renew = () => cache.invalidateQueries({ queryKey: ["backfills", feed] });
  const ask = useMutation({ mutationFn: () => askBackfill(feed, from, until, length), onSuccess: renew });
  const move = useMutation({
    mutationFn: ([id, to]: [number, "pause" | "resume" | "cancel"]) => moveBackfill(id, to),
    onSuccess: renew,
  });
  const error = ask.error ?? move.error;
  return (
    <>
      <h2>Backfills</h2>
      <FormLine label="New backfill" send={() => ask.mutate()}>
        <Field label="From" value={from} change={setFrom} placeholder="2026-01-01" width={130} />
        <Field label="Until" value={until} change={setUntil} placeholder="2026-02-01" width={130} />
        <Field label="Length of each run" value={length} change={setLength} placeholder="1d" width={90} />
        <Button type="submit" isPending={ask.isPending} isDisabled={!from || !until || !length}>
          Backfill
        </Button>
      </FormLine>
      {error && <Trouble facts={factsOf(error)} />}
      <Loaded query={found} what="backfills">
        {(all) => (
          <Grid<Backfill>
            label="Backfills"
            rows={all}
            id={(one) => one.id}
            empty="None. A backfill takes a range of the past once more, in steps, and leaves the feed's own cursor where it is."
            columns={[
              { name: "No.", show: (one) => one.id, end: true, width: "7%" },
              { name: "From", show: (one) => short(one.begins), width: "16%" },
              { name: "Until", show: (one) => short(one.ends), width: "16%" },
              { name: "Length", show: (one) => one.length, width: "8%" },
              {
                name: "State",
                show: (one) => <Badge word={one.state} tone={one.state === "active" ? "busy" : undefined} />,
                width: "11%",
              },
              {
                name: "Done",
                show: (one) =>
                  `${count(one.counts.done ?? 0)} of ${count(one.windows)}${one.counts.failed ? `, ${one.counts.failed} failed` : ""}`,
                width: "16%",
              },
              { name: "Requested", show: (one) => ago(one.asked_at, now), width: "13%" },
              {
                name: "Pause, resume or cancel",
                quiet: true,
                show: (one) =>
                  (one.state === "active" || one.state === "paused") && (
                    <>
                      <InRow type="button" onClick={() => move.mutate([one.id, one.state === "active" ? "pause" : "resume"])}>
                        {one.state === "active" ? "Pause" : "Resume"}
                      </InRow>
                      <InRow type="button" onClick={() => move.mutate([one.id, "cancel"])}>
                        Cancel
                      </InRow>
                    </>
                  ),
                width: "13%",
              },
            ]}
          />
        )}
      </Loaded>
    </>
  );
}
