import { useQuery } from "@tanstack/react-query";
import type { Source } from "../lib/api-types";
import { count, lagWords, moment, pace } from "../lib/format";
import { sourcesQuery } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Grid } from "../ui/Grid";
import { Page } from "../ui/Page";
import { Loaded } from "./Loaded";

/** How a source stands, in a word or two, and in which colour. */
export function stateOf(source: Source): { word: string; tone?: "bad" | "warn" } {
  if (source.rests_until) return { word: `cooling down until ${moment(source.rests_until).slice(11)}`, tone: "bad" };
  if (source.person && !source.signed_in) return { word: "sign-in needed", tone: "warn" };
  if (source.failures > 0) return { word: `failed ${source.failures} in a row`, tone: "warn" };
  return { word: "healthy" };
}

export function Sources() {
  const sources = useQuery(sourcesQuery());
  return (
    <Page title="Sources" about="Where records come from: what each offers, its rate limit, and its health.">
      <Loaded query={sources} what="sources">
        {(found) => (
          <Grid<Source>
            label="Sources"
            rows={found}
            id={(source) => source.name}
            href={(source) => `/sources/${source.name}`}
            empty={
              <>
                No sources yet. Apply a basket: <code>reed apply FOLDER</code>
              </>
            }
            columns={[
              { name: "Source", show: (source) => <b>{source.name}</b>, width: "10%" },
              { name: "State", show: (source) => <Badge {...stateOf(source)} />, width: "12%" },
              { name: "Connector", show: (source) => source.connector, width: "11%" },
              {
                name: "Address",
                show: (source) => <span title={source.base_url}>{source.base_url}</span>,
                mono: true,
                width: "18%",
              },
              {
                name: "Rate limit, or CDC lag",
                show: (source) =>
                  source.database || source.files
                    ? source.lags.map((lag) => `${lag.feed}: ${lagWords(lag)}`).join(", ")
                    : pace(source.rate_limit),
                width: "19%",
              },
              {
                name: "Requests",
                under: "last minute",
                show: (source) => (source.asked_last_minute ? count(source.asked_last_minute) : ""),
                end: true,
                width: "8%",
              },
              {
                name: "Tables",
                show: (source) => (source.database || source.files || source.discover_tables ? "" : source.tables.length),
                end: true,
                width: "6%",
              },
              {
                name: "Feeds",
                show: (source) => <span title={source.feeds.join(", ")}>{source.feeds.join(", ")}</span>,
                width: "16%",
              },
            ]}
          />
        )}
      </Loaded>
    </Page>
  );
}
