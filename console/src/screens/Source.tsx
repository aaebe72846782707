import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useLocation, useParams } from "react-router";
import { lagWords, moment, pace } from "../lib/format";
import { checkSource, signInThere, sourceQuery, surveySource } from "../lib/queries";
import { Badge } from "../ui/Badge";
import { Button } from "../ui/Button";
import { Fact, Facts, Page } from "../ui/Page";
import { Trouble } from "../ui/States";
import { Tabs } from "../ui/Tabs";
import { CheckView } from "./CheckView";
import { factsOf, Loaded } from "./Loaded";
import { PreviewView } from "./PreviewView";
import { SetupView } from "./SetupView";
import { stateOf } from "./Sources";
import { SurveyView } from "./SurveyView";

export function Source() {
  const { source = "" } = useParams();
  const found = useQuery(sourceQuery(source));
  // What went wrong on the way back from signing in stands behind the #.
  const said = decodeURIComponent(useLocation().hash.slice(1));
  const signIn = useMutation({
    mutationFn: () => signInThere(source),
    onSuccess: (sent) => window.location.assign(sent.url),
  });
  const survey = useMutation({ mutationFn: () => surveySource(source) });
  return (
    <Page
      title={source}
      about={found.data?.description}
      actions={
        found.data?.person && (
          <Button look="main" onPress={() => signIn.mutate()} isPending={signIn.isPending}>
            {found.data.signed_in ? "Sign in again" : "Sign in there"}
          </Button>
        )
      }
    >
      {said && <Trouble facts={{ message: said, code: "source.sign_in_failed" }} />}
      {signIn.isError && <Trouble facts={factsOf(signIn.error)} />}
      <Loaded query={found} what="the source">
        {(data) => (
          <>
            <Facts>
              <Fact name="State">
                <Badge {...stateOf(data)} />
              </Fact>
              <Fact name={data.database ? "Database" : data.files ? "File store" : "Connector"}>{data.connector}</Fact>
              <Fact name="Address">{data.base_url}</Fact>
              {!((data.database || data.files) && data.signs_in === "nothing") && (
                <Fact name="Authentication">{data.signs_in}</Fact>
              )}
              {!data.database && !data.files && <Fact name="Rate limit">{pace(data.rate_limit)}</Fact>}
              <Fact name="Feeds">
                {data.feeds.map((feed, index) => (
                  <span key={feed}>
                    {index > 0 && ", "}
                    <Link to={`/feeds/${feed}`}>{feed}</Link>
                  </span>
                ))}
                {data.feeds.length === 0 && "none yet"}
              </Fact>
              {data.lags.map((lag) => (
                <Fact key={lag.feed} name={`Log ahead of ${lag.feed}`}>
                  <span title={`as its last run found it, ${moment(lag.at)}`}>{lagWords(lag)}</span>
                </Fact>
              ))}
            </Facts>
            <Tabs
              label="About the source"
              items={[
                { id: "survey", title: "Survey", body: <SurveyView survey={survey} tables={data.tables} source={data} /> },
                {
                  id: "preview",
                  title: "Preview",
                  body:
                    data.database || data.files || data.discover_tables ? (
                      <PreviewView
                        source={source}
                        tables={survey.data?.map((table) => table.table) ?? []}
                        survey={survey}
                        files={data.files}
                      />
                    ) : (
                      <PreviewView source={source} tables={data.tables} />
                    ),
                },
                { id: "check", title: "Check", body: <CheckView ask={() => checkSource(source)} /> },
                ...(data.database ? [{ id: "setup", title: "Setup SQL", body: <SetupView source={source} /> }] : []),
              ]}
            />
          </>
        )}
      </Loaded>
    </Page>
  );
}
