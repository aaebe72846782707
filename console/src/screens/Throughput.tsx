import { useQuery } from "@tanstack/react-query";
import { count, moment, size } from "../lib/format";
import { requestsQuery } from "../lib/queries";
import { bytesPerSecond, rowsPerSecond, type Part, type Sample } from "../lib/throughput";
import { Chart } from "../ui/Chart";
import { Section } from "../ui/Page";
import { Loaded } from "./Loaded";

const clock = (time: number) => moment(new Date(time).toISOString()).slice(11);

function Drawn({ parts, what, unit }: { parts: Part[]; what: string; unit: (rate: number) => string }) {
  const most = Math.max(...parts.map((part) => part.rate));
  const still = parts.filter((part) => part.rate === 0).length;
  const places = [0, 0.5, 1].map((share) => parts[Math.round(share * (parts.length - 1))]!);
  return (
    <Section>
      <p style={{ margin: 0 }}>{`${what}, at most ${unit(most)} a second${still > 0 ? `; it stood still for ${count(Math.round((100 * still) / parts.length))} % of the time` : ""}.`}</p>
      <Chart
        label={`${what} over the run: at most ${unit(most)} a second`}
        bars={parts.map((part) => ({ value: part.rate, title: `${clock(part.from)} to ${clock(part.until)}: ${unit(part.rate)} a second` }))}
        marks={places.map((part, place) => clock(place === 2 ? part.until : part.from))}
        unit={unit}
      />
    </Section>
  );
}

/** How fast it goes, while it is watched; of a run that is over, how fast its source answered. */
export function Throughput({ run, active, samples }: { run: number; active: boolean; samples: Sample[] }) {
  const requests = useQuery(requestsQuery(run, false, active));
  const rows = rowsPerSecond(samples);
  if (rows.length > 1) return <Drawn parts={rows} what="Rows read" unit={(rate) => count(Math.round(rate))} />;
  return (
    <Loaded query={requests} what="requests">
      {(found) => {
        const bytes = bytesPerSecond(found);
        if (bytes.length > 1) return <Drawn parts={bytes} what="Received" unit={(rate) => size(rate)} />;
        return <p>{active ? "It has only just begun." : "It was over too soon to be drawn, or nobody watched it and it sent no requests that are kept."}</p>;
      }}
    </Loaded>
  );
}
