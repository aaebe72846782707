import { Link } from "react-router";
import styled from "styled-components";
import type { DueWindow } from "../lib/api-types";
import { calendar, type Day } from "../lib/calendar";
import { plural } from "../lib/format";

const Frame = styled.div`
  overflow-x: auto;
  border: 1px solid ${({ theme }) => theme.color.line};
  border-radius: ${({ theme }) => theme.radius};
  background: ${({ theme }) => theme.color.surface};
  padding: 8px 12px;
  table { border-collapse: separate; border-spacing: 2px; }
  th { font-weight: 400; font-size: ${({ theme }) => theme.size.tiny}; color: ${({ theme }) => theme.color.inkSoft}; text-align: center; min-width: 22px; padding: 0; }
  th[scope="row"] { text-align: left; padding-right: 10px; white-space: nowrap; }
  td { padding: 0; }
  td > * { display: grid; place-items: center; width: 24px; height: 22px; border-radius: 4px; font-size: ${({ theme }) => theme.size.tiny}; text-decoration: none; border: 1px solid transparent; font-family: inherit; }
  [data-state="done"] { background: ${({ theme }) => theme.color.goodSoft}; color: ${({ theme }) => theme.color.good}; }
  [data-state="failed"] { background: ${({ theme }) => theme.color.badSoft}; color: ${({ theme }) => theme.color.bad}; border-color: ${({ theme }) => theme.color.bad}; }
  [data-state="queued"], [data-state="waiting"] { background: ${({ theme }) => theme.color.busySoft}; color: ${({ theme }) => theme.color.busy}; }
  [data-state="skipped"] { background: none; border-color: ${({ theme }) => theme.color.warn}; color: ${({ theme }) => theme.color.warn}; }
  button { cursor: pointer; }
  button:hover, a:hover { border-color: ${({ theme }) => theme.color.focus}; }
`;

/** The worst of a day's windows says how the day stands; by sign as well as by colour. */
const signs: Record<string, string> = { done: "✓", failed: "!", queued: "…", waiting: "…", skipped: "–" };

function Cell({ day, again }: { day: Day; again: (window: DueWindow) => void }) {
  const words = `${day.date}: ${
    day.windows.length === 1
      ? day.state
      : Object.entries(day.counts)
          .map(([state, n]) => `${n} ${state}`)
          .join(", ")
  }`;
  const worst = day.windows.find((window) => window.state === day.state)!;
  if ((day.state === "failed" || day.state === "skipped") && worst.backfill === null)
    return (
      <button
        type="button"
        data-state={day.state}
        title={`${words}; press to run it again`}
        aria-label={`${words}; run it again`}
        onClick={() => again(worst)}
      >
        {signs[day.state]}
      </button>
    );
  if (worst.run !== null)
    return (
      <Link to={`/runs/${worst.run}`} data-state={day.state} title={`${words}; to its run`} aria-label={`${words}; to its run`}>
        {signs[day.state]}
      </Link>
    );
  return (
    <span data-state={day.state} title={words} role="img" aria-label={words}>
      {signs[day.state]}
    </span>
  );
}

/** Months below each other, a day a box: done, missing, failed. A press leads to the run, or runs again what failed. */
export function WindowCalendar({ windows, again }: { windows: DueWindow[]; again: (window: DueWindow) => void }) {
  const months = calendar(windows);
  return (
    <Frame tabIndex={0} role="group" aria-label={`Calendar of ${plural(windows.length, "window")}`}>
      <table>
        <thead>
          <tr>
            <th scope="col">Month</th>
            {Array.from({ length: 31 }, (_, day) => (
              <th key={day} scope="col">
                {day + 1}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {months.map((month) => (
            <tr key={month.name}>
              <th scope="row">{month.name}</th>
              {month.days.map((day, place) => (
                <td key={place}>{day && <Cell day={day} again={again} />}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Frame>
  );
}
