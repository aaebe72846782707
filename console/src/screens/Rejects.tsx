import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { count, plural } from "../lib/format";
import { feedsQuery } from "../lib/queries";
import { Choices } from "../ui/Choices";
import { Page } from "../ui/Page";
import { Sides } from "../ui/Sides";
import { Loaded } from "./Loaded";
import { RejectsView } from "./RejectsView";

/** Records that could not be shaped, of all feeds; which feed stands in the address. */
export function Rejects() {
  const feeds = useQuery(feedsQuery());
  const [asked, ask] = useSearchParams();
  return (
    <Page
      title="Rejects"
      about="Records that were read but could not be loaded. They are kept exactly as they arrived until the feed is fixed and they are replayed."
    >
      <Loaded query={feeds} what="feeds">
        {(found) => {
          const some = found.filter((feed) => feed.rejects > 0).sort((a, b) => b.rejects - a.rejects);
          const chosen = some.find((feed) => feed.name === asked.get("feed")) ?? some[0];
          if (!chosen) return <p>None: every record that was read is in its table.</p>;
          return (
            <Sides>
              <Choices
                label="Feeds with rejects"
                items={some.map((feed) => ({ id: feed.name, under: plural(feed.rejects, "reject") }))}
                chosen={chosen.name}
                choose={(name) => ask({ feed: name }, { replace: true })}
              />
              <div>
                <p style={{ marginTop: 0 }}>
                  <Link to={`/feeds/${chosen.name}`}>{chosen.name}</Link>
                  {`: ${count(chosen.rejects)} kept`}
                </p>
                <RejectsView key={chosen.name} feed={chosen.name} />
              </div>
            </Sides>
          );
        }}
      </Loaded>
    </Page>
  );
}
