import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { count, duration, size } from "../lib/format";
import { paceQuery } from "../lib/queries";
import { type Part, perSecond } from "../lib/throughput";
import { Button } from "../ui/Button";
import { Chart } from "../ui/Chart";
import { Actions, Section } from "../ui/Page";
import { Loaded } from "./Loaded";

const clock = (seconds: number) => (seconds === 0 ? "the start" : duration(seconds));

function Drawn({ parts, what, unit }: { parts: Part[]; what: string; unit: (rate: number) => string }) {
  const most = Math.max(...parts.map((part) => part.rate));
  const still = parts.filter((part) => part.rate === 0).length;
  const end = parts.at(-1)!.until;
  return (
    <Section>
      <p
        style={{ margin: 0 }}
      >{`${what}, at most ${unit(most)} a second${still > 0 ? `; it stood still for ${count(Math.round((100 * still) / parts.length))} % of the time` : ""}.`}</p>
      <Chart
        label={`${what} over the run: at most ${unit(most)} a second`}
        bars={parts.map((part) => ({
          value: part.rate,
          title: `${clock(part.from)} to ${clock(part.until)}: ${unit(part.rate)} a second`,
        }))}
        marks={[0, end / 2, end].map(clock)}
        unit={unit}
      />
    </Section>
  );
}

/** How fast it went, from what the worker noted on the way. */
export function Throughput({ run, active }: { run: number; active: boolean }) {
  const [bytes, setBytes] = useState(false);
  const pace = useQuery(paceQuery(run, active));
  return (
    <Loaded query={pace} what="the pace">
      {(found) => {
        const parts = perSecond(found, bytes ? "bytes" : "read");
        if (parts.length < 2) return <p>{active ? "Just started." : "Too short to draw: a second or less."}</p>;
        return (
          <>
            <Actions>
              <Button look="quiet" onPress={() => setBytes(!bytes)}>
                {bytes ? "Show rows" : "Show bytes"}
              </Button>
            </Actions>
            <Drawn
              parts={parts}
              what={bytes ? "Received" : "Rows read"}
              unit={(rate) => (bytes ? size(rate) : count(Math.round(rate)))}
            />
          </>
        );
      }}
    </Loaded>
  );
}
