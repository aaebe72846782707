import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import type { DueWindow, ScheduledFeed } from "../lib/api-types";
import { moment, ruleInWords, soon } from "../lib/format";
import { schedulesQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Grid } from "../ui/Grid";
import { useNow } from "../ui/now";
import { Page } from "../ui/Page";
import { Loaded } from "./Loaded";

const Strip = styled.span`
  display: flex;
  gap: 2px;
  a, i { display: block; width: 7px; height: 16px; border-radius: 2px; background: ${({ theme }) => theme.color.line}; }
  [data-state="done"] { background: ${({ theme }) => theme.color.good}; }
  [data-state="failed"] { background: ${({ theme }) => theme.color.bad}; }
  [data-state="queued"] { background: ${({ theme }) => theme.color.busy}; }
  [data-state="skipped"] { background: none; box-shadow: inset 0 0 0 1px ${({ theme }) => theme.color.warn}; }
`;

const Key = styled.p`
  display: flex;
  gap: ${({ theme }) => theme.space.l};
  margin: 0;
  color: ${({ theme }) => theme.color.inkSoft};
  span { display: flex; align-items: center; gap: 6px; }
`;

const short = (time: string) =>
  time
    .replace("T00:00:00Z", "")
    .replace("T", " ")
    .replace(/(:00)?Z$/, "");
const about = (window: DueWindow) => `${short(window.begins)} to ${short(window.ends)}: ${window.state}`;

/** Each window as a mark, the latest at the right; it leads to its run. The list form stands with the feed. */
function Windows({ latest }: { latest: DueWindow[] }) {
  return (
    <Strip>
      {latest.map((window) =>
        window.run ? (
          <Link
            key={window.id}
            to={`/runs/${window.run}`}
            data-state={window.state}
            title={about(window)}
            aria-label={about(window)}
            tabIndex={-1}
          />
        ) : (
          <i key={window.id} data-state={window.state} title={about(window)} />
        ),
      )}
    </Strip>
  );
}

/** Which feeds run by themselves, when next, and how their windows stand. */
export function Schedules() {
  const schedules = useQuery(schedulesQuery());
  const now = useNow();
  return (
    <Page title="Schedules" about="Feeds with a schedule, and their latest windows.">
      <Loaded query={schedules} what="schedules">
        {(found) => (
          <>
            <Grid<ScheduledFeed>
              label="Schedules"
              rows={found}
              id={(one) => one.feed}
              href={(one) => `/feeds/${one.feed}`}
              empty={
                <>
                  None. Give a feed a <code>schedule</code>: every 15 minutes, at six in the morning, for each day, or after
                  another feed.
                </>
              }
              columns={[
                { name: "Feed", show: (one) => <b>{one.feed}</b>, width: "14%" },
                {
                  name: "State",
                  show: (one) => (
                    <Badge word={one.schedule.paused ? "paused" : one.activity} tone={one.schedule.paused ? "warn" : undefined} />
                  ),
                  width: "9%",
                },
                {
                  name: "Schedule",
                  show: (one) => <span title={ruleInWords(one.schedule.rule ?? {})}>{ruleInWords(one.schedule.rule ?? {})}</span>,
                  width: "24%",
                },
                {
                  name: "Next",
                  show: (one) => (
                    <span title={moment(one.schedule.next_due)}>
                      {one.schedule.paused ? "when resumed" : soon(one.schedule.next_due, now)}
                    </span>
                  ),
                  width: "13%",
                },
                { name: "Latest windows", show: (one) => <Windows latest={one.latest.slice(-44)} />, width: "40%" },
              ]}
            />
            {found.some((one) => one.latest.length > 0) && (
              <Key>
                {["done", "failed", "queued", "waiting", "skipped"].map((state) => (
                  <span key={state}>
                    <Strip aria-hidden>
                      <i data-state={state} />
                    </Strip>
                    {state}
                  </span>
                ))}
              </Key>
            )}
          </>
        )}
      </Loaded>
    </Page>
  );
}
